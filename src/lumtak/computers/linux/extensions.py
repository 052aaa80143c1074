"""Extensions of browsers, read by the user's hand from the user's own profiles.

Sources: Firefox Source Docs, add-on manager (extensions.json); Chromium's user data directory and
preferences; WebExtensions manifests, which both share. What they say is the user's own word.
"""

import re
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple

import msgspec

from lumtak.computers.hands.reach import Reach, names_at
from lumtak.computers.hands.whose import User
from lumtak.core.extensions import Extension
from lumtak.core.facts import Item
from lumtak.core.record import UNREADABLE, Record
from lumtak.core.text import plain

_MOST_PROFILES, _MOST_BYTES, _MOST, _NAME = 20, 1 << 24, 200, 80
_EVERY = re.compile(r"<all_urls>|(?:\*|https?)://\*/\*?")
_OWN_PLACES = {"app-builtin", "app-system-defaults", "app-builtin-addons", "app-system-addons"}
_COMPONENTS = {5, 10}
"""Parts of the browser itself, as Chromium numbers where an extension came from."""
_SINCE_1601_S = 11_644_473_600


class _Family(NamedTuple):
    """Browsers that keep their profiles alike."""

    names: frozenset[str]
    """Of their programs."""
    folders: tuple[str, ...]
    """Below the home."""
    page: str


_GECKO = (
    _Family(
        frozenset({"firefox", "firefox-esr", "firefox-bin"}),
        (
            ".mozilla/firefox",
            "snap/firefox/common/.mozilla/firefox",
            ".var/app/org.mozilla.firefox/.mozilla/firefox",
        ),
        "about:addons",
    ),
)
_CHROMIUM = (
    _Family(
        frozenset({"chromium", "chromium-browser"}),
        (
            ".config/chromium",
            "snap/chromium/common/chromium",
            ".var/app/org.chromium.Chromium/config/chromium",
        ),
        "chrome://extensions",
    ),
    _Family(
        frozenset({"chrome", "google-chrome", "google-chrome-stable"}),
        (".config/google-chrome", ".var/app/com.google.Chrome/config/google-chrome"),
        "chrome://extensions",
    ),
    _Family(
        frozenset({"msedge", "microsoft-edge"}), (".config/microsoft-edge",), "edge://extensions"
    ),
    _Family(
        frozenset({"brave", "brave-browser"}),
        (".config/BraveSoftware/Brave-Browser",),
        "brave://extensions",
    ),
    _Family(frozenset({"vivaldi", "vivaldi-bin"}), (".config/vivaldi",), "vivaldi://extensions"),
)


def with_extensions(of_user: Reach, user: User, items: Sequence[Item]) -> list[Item]:
    """The items; browsers among them with what they load."""
    found = []
    for item in items:
        name = item.key.rpartition("/")[2].lower()
        loaded = _of(of_user, user, name) if item.area == "apps" else ()
        found.append(msgspec.structs.replace(item, extensions=loaded) if loaded else item)
    return found


def _of(hand: Reach, user: User, name: str) -> tuple[Extension, ...]:
    for families, read in ((_GECKO, _gecko), (_CHROMIUM, _chromium)):
        for family in families:
            if name in family.names:
                folders = [f"{user.home}/{folder}" for folder in family.folders]
                found = [e for folder in folders for e in read(hand, folder, family.page)]
                return tuple(dict.fromkeys(found))[:_MOST]
    return ()


def _profiles(hand: Reach, folder: str) -> list[str]:
    return [f"{folder}/{name}" for name in names_at(hand, folder)[:_MOST_PROFILES]]


def _json(hand: Reach, path: str) -> dict[str, Any]:
    """What a file says; nothing where it is not there or is no such file."""
    try:
        said = msgspec.json.decode(hand.read(path, _MOST_BYTES))
    except (OSError, *UNREADABLE):
        return {}
    return said if isinstance(said, dict) else {}


class _Told(Record, forbid_unknown_fields=False):
    """The base of what others write: fields that are not known are passed over."""


class _Locale(_Told):
    name: str = ""


class _Rights(_Told):
    permissions: list[str] = []
    origins: list[str] = []


class _Addon(_Told, rename="camel"):
    id: str = ""
    type: str = ""
    active: bool = False
    location: str = ""
    install_date: float = 0
    default_locale: _Locale | None = None
    user_permissions: _Rights | None = None


def _gecko(hand: Reach, folder: str, page: str) -> Iterator[Extension]:
    for profile in _profiles(hand, folder):
        said = _json(hand, f"{profile}/extensions.json").get("addons")
        for told in said[:_MOST] if isinstance(said, list) else ():
            try:
                one = msgspec.convert(told, _Addon)
            except msgspec.ValidationError:
                continue
            if one.type == "extension" and one.location not in _OWN_PLACES:
                rights = one.user_permissions or _Rights()
                yield Extension(
                    name=plain((one.default_locale or _Locale()).name or one.id, _NAME),
                    on=one.active,
                    since=_day(one.install_date / 1000),
                    everywhere=_everywhere([*rights.permissions, *rights.origins]),
                    page=page,
                )


class _Script(_Told):
    matches: list[str] = []


class _Manifest(_Told):
    name: str = ""
    default_locale: str = ""
    permissions: list[Any] = []
    host_permissions: list[str] = []
    content_scripts: list[_Script] = []
    theme: Any = None


class _Set(_Told):
    state: int = 1
    location: int = 0
    path: str = ""
    disable_reasons: Any = None
    first_install_time: str = ""
    install_time: str = ""
    manifest: _Manifest | None = None


def _chromium(hand: Reach, folder: str, page: str) -> Iterator[Extension]:
    for profile in _profiles(hand, folder):
        for name in ("Secure Preferences", "Preferences"):
            said = _json(hand, f"{profile}/{name}").get("extensions")
            held = said.get("settings") if isinstance(said, dict) else None
            for key, told in list(held.items())[:_MOST] if isinstance(held, dict) else ():
                try:
                    one = msgspec.convert(told, _Set, strict=False)
                except msgspec.ValidationError:
                    continue
                if one.location not in _COMPONENTS and (
                    made := _made(hand, profile, key, one, page)
                ):
                    yield made


def _made(hand: Reach, profile: str, key: str, one: _Set, page: str) -> Extension | None:
    """The extension; None for a theme, a part of the browser, and what is not installed any
    more.
    """
    inside = re.fullmatch(r"[a-z]{32}/[^/]{1,60}", one.path) is not None
    place = f"{profile}/Extensions/{one.path}"
    manifest = one.manifest or (_manifest_at(hand, place) if inside else None)
    if one.location in _COMPONENTS or manifest is None or manifest.theme is not None:
        return None
    name = _named(hand, place, manifest, key) if inside else manifest.name
    return Extension(
        name=plain(name or key, _NAME),
        on=one.state == 1 and not one.disable_reasons,
        since=_since_1601(one.first_install_time or one.install_time),
        everywhere=_everywhere(_pages(manifest)),
        page=page,
    )


def _since_1601(micro: str) -> str:
    """A day by microseconds since 1601, as Chromium counts."""
    if re.fullmatch(r"[0-9]{1,18}", micro) is None:
        return ""
    return _day(int(micro) / 1e6 - _SINCE_1601_S)


def _manifest_at(hand: Reach, place: str) -> _Manifest | None:
    try:
        found = msgspec.convert(_json(hand, f"{place}/manifest.json"), _Manifest)
    except msgspec.ValidationError:
        return None
    return found if found.name else None


def _pages(manifest: _Manifest) -> list[str]:
    """On which pages it may run."""
    scripts = [p for script in manifest.content_scripts for p in script.matches]
    rights = [p for p in manifest.permissions if isinstance(p, str)]
    return [*rights, *manifest.host_permissions, *scripts]


def _named(hand: Reach, place: str, manifest: _Manifest, key: str) -> str:
    """Its name, looked up where it stands in a list of translations."""
    message = re.fullmatch(r"__MSG_(\w{1,80})__", manifest.name)
    if message is None:
        return manifest.name
    locale = manifest.default_locale
    if re.fullmatch(r"[A-Za-z_-]{1,20}", locale) is None:
        return key
    said = _json(hand, f"{place}/_locales/{locale}/messages.json")
    for name, told in said.items():
        if name.lower() == message[1].lower() and isinstance(told, dict):
            return str(told.get("message", key))
    return key


def _everywhere(pages: Sequence[str]) -> bool:
    return any(_EVERY.fullmatch(page) for page in pages)


def _day(seconds: float) -> str:
    try:
        return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%d}" if seconds > 0 else ""
    except (ValueError, OverflowError, OSError):
        return ""
