"""What Lumtak knows, and what the shop knows by itself: roles and profiles.

Apart from the data folder's journal and casebook, so that the pocket reference waits for neither.
"""

import os
from functools import cached_property
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from lumtak.computers.hands.sent.files.owned import why_not_roots
from lumtak.core.profile import Profile, load_profile
from lumtak.core.record import UNREADABLE, json_document
from lumtak.core.settings import Settings, load_settings, settings_toml
from lumtak.core.text import plain
from lumtak.errors import BadFileError, LumtakError, StorageError, UnknownNameError
from lumtak.storage import make_folder, read_handed_in, write_whole

if TYPE_CHECKING:  # the opening screen needs none of them
    from lumtak.core.catalogue import Catalogue, Role
    from lumtak.core.shop import Export, Wrong

_LARGEST_FILE = 1 << 20


class Knowledge:
    """What ships with Lumtak, with the files of knowledge/ and profiles/ in a data folder.

    Args:
        home: the data folder; made when something is first written.

    Raises:
        StorageError: it is root's Lumtak, and others decide where the folder is or what stands in
            it.
    """

    def __init__(self, home: Path) -> None:
        if os.geteuid() == 0 and (why := why_not_roots(str(home))):
            raise StorageError(
                f"Lumtak does not keep data as root in {plain(str(home), 300)}, since"
                f" {plain(why, 300)}.",
                "Start Lumtak as yourself: it asks for what takes root. Or name a folder of root's"
                " with --home DIR.",
            )
        self.home = home
        self.unread = ""
        """Why the settings could not be read, until somebody was told."""

    @cached_property
    def catalogue(self) -> "Catalogue":
        """What is known about roles, with the shop's own files of HOME/knowledge.

        Files of HOME/catalogue, as older versions kept them, count as well; what is wrong with any
        of them is in its `problems`.
        """
        from lumtak.core.catalogue import Catalogue, read_roles

        found = shipped_catalogue()
        for folder in (self.home / "catalogue", self.home / "knowledge"):
            for path in _written_in(folder):
                try:
                    found = found.extended(read_roles(_text_of(path), str(path)), str(path))
                except LumtakError as error:
                    found = Catalogue(found.role, (*found.problems, str(error)))
        return found

    @cached_property
    def wrongs(self) -> "tuple[Wrong, ...]":
        """What was said to be wrong in this shop, oldest first; nothing where the file is none."""
        from lumtak.core.shop import Wrong

        path = self.home / "knowledge" / "wrong.json"
        try:
            return msgspec.json.decode(path.read_bytes(), type=tuple[Wrong, ...])
        except (OSError, *UNREADABLE):
            return ()

    @property
    def settings_path(self) -> Path:
        """Where the settings stand, once there are any."""
        return self.home / "settings.toml"

    @cached_property
    def settings(self) -> Settings:
        """What the shop set; as it ships where nothing was, or where the file cannot be read."""
        try:
            return self.read_settings()
        except LumtakError as error:
            self.unread = str(error)
            return Settings()

    def read_settings(self) -> Settings:
        """The settings of the file.

        Raises:
            BadFileError: it cannot be read, or is none.
        """
        if not self.settings_path.exists():
            return Settings()
        return load_settings(_text_of(self.settings_path), str(self.settings_path))

    def keep_settings(self, settings: Settings) -> None:
        """Keep them.

        Raises:
            StorageError: they cannot be written; BadFileError: what stands there cannot be read,
                and would be lost.
        """
        self.read_settings()
        self._keep(self.settings_path, settings_toml(settings).encode("utf-8"))

    def teach(self, role: "Role") -> None:
        """Keep an entry of the shop's own; one of the same name is replaced.

        Raises:
            StorageError: it cannot be written; BadFileError: what stands there is no knowledge.
        """
        from lumtak.core.catalogue import read_roles
        from lumtak.core.shop import as_toml

        path = self.home / "knowledge" / "taught.toml"
        known = read_roles(_text_of(path), str(path)) if path.exists() else ()
        kept = [r for r in known if r.name != role.name]
        self._keep(path, as_toml([*kept, role]).encode("utf-8"))

    def say_wrong(self, wrong: "Wrong") -> None:
        """Keep that a finding was wrong."""
        self._keep(self.home / "knowledge" / "wrong.json", json_document([*self.wrongs, wrong]))

    def take_over(self, export: "Export", name: str) -> None:
        """Another shop's knowledge, as a file of its own.

        Raises:
            StorageError: it cannot be written, or there is one of that name.
        """
        from lumtak.core.shop import as_toml

        path = self.home / "knowledge" / f"{name}.toml"
        if path.exists():
            raise StorageError(f"{path} is there already.", "Choose another name with --name.")
        self._keep(path, as_toml(export.roles).encode("utf-8"))
        both = list(dict.fromkeys((*self.wrongs, *export.wrong)))
        self._keep(self.home / "knowledge" / "wrong.json", json_document(both))

    def own_roles(self) -> "tuple[Role, ...]":
        """The roles in the shop's own files, in the order in which they are read.

        Raises:
            BadFileError: a file is no knowledge.
        """
        from lumtak.core.catalogue import read_roles

        paths = _written_in(self.home / "knowledge")
        return tuple(role for path in paths for role in read_roles(_text_of(path), str(path)))

    def _keep(self, path: Path, data: bytes) -> None:
        make_folder(path.parent)
        write_whole(path, data, private=True)
        # What was worked out from the files before is worked out anew.
        for name in ("catalogue", "wrongs", "settings"):
            self.__dict__.pop(name, None)

    def profiles(self) -> dict[str, Profile]:
        """Profiles by name: those that ship with Lumtak, and those in the home folder, which win.

        A broken file in the home folder is left out here; naming it says what is wrong with it.
        """
        found = shipped_profiles()
        for path in _written_in(self.home / "profiles"):
            try:
                profile = read_profile(path)
            except LumtakError:
                continue
            found[profile.name] = profile
        return found

    def profile(self, name: str) -> Profile:
        """The profile of this name, or in this file.

        Raises:
            UnknownNameError: there is no such profile and no such file; BadFileError: the file is
                no profile.
        """
        if "/" in name or name.endswith(".toml"):
            return read_profile(Path(name))
        own = self.home / "profiles"
        shipped = files("lumtak") / "data" / "profiles" / f"{name}.toml"
        # Reading one of a dozen is quicker, and nobody's own can have that name.
        if not own.is_dir() and shipped.is_file():
            return load_profile(shipped.read_text(encoding="utf-8"), shipped.name)
        profiles = self.profiles()
        if name not in profiles:
            if (own / f"{name}.toml").exists():
                return read_profile(own / f"{name}.toml")
            raise UnknownNameError(
                "profile",
                name,
                profiles,
                "`lumtak profile list` shows them; a file is named with its path.",
            )
        return profiles[name]


def read_profile(path: Path) -> Profile:
    """The profile in a file.

    Raises:
        BadFileError: it cannot be read, or is no profile.
    """
    return load_profile(_text_of(path), str(path))


def shipped_profiles() -> dict[str, Profile]:
    """The profiles that ship with Lumtak, by name."""
    found = [load_profile(text, name) for name, text in _shipped("profiles")]
    return {profile.name: profile for profile in found}


def shipped_catalogue() -> "Catalogue":
    """What Lumtak knows by itself: a file a field."""
    from lumtak.core.catalogue import Catalogue, read_roles

    return Catalogue(
        role for name, text in _shipped("knowledge") for role in read_roles(text, name)
    )


def _shipped(folder: str) -> list[tuple[str, str]]:
    """(name, text) of the TOML files of a folder that ships with Lumtak, by name."""
    shipped = (files("lumtak") / "data" / folder).iterdir()
    return sorted((e.name, e.read_text("utf-8")) for e in shipped if e.name.endswith(".toml"))


def _written_in(folder: Path) -> list[Path]:
    """The TOML files of a folder of the shop's own, by name; none where there is no such folder."""
    return sorted(folder.glob("*.toml")) if folder.is_dir() else []


def _text_of(path: Path) -> str:
    """The text of a small file that somebody wrote.

    Raises:
        BadFileError: it cannot be read, is too large, or is not UTF-8.
    """
    data = read_handed_in(path, _LARGEST_FILE, "file that was written by hand")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise BadFileError(
            str(path), "this is not UTF-8 text.", line=line, next_step="Save it as UTF-8."
        ) from error
