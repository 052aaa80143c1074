"""Colours: a dark and a light theme on a blue-orange-grey axis, safe for colour-blind people."""

from textual.app import App
from textual.theme import Theme

from lumtak.core.stance import Stance
from lumtak.core.strip import PIECE_KINDS, PieceKind

DARK = Theme(
    name="lumtak-dark",
    dark=True,
    primary="#8fbfe8",
    secondary="#8b97a3",
    accent="#8fbfe8",
    foreground="#d8dde1",
    background="#12161b",
    surface="#171c22",
    panel="#1e242b",
    warning="#e8b04b",
    error="#f0a070",
    success="#8fbfe8",
    variables={
        "kind-guarded": "#66727d",
        "kind-keep": "#4f93c8",
        "kind-ask": "#cfb984",
        "kind-ease": "#ee8a2e",
        "kind-aside": "#a9bccb",
        "kind-cache": "#3d4851",
        "kind-free": "#2a323a",
        "soft": "#8b97a3",
        "rule": "#333d46",
        "lit": "#fff1d6",
        "cursor": "#232c36",
    },
)
LIGHT = Theme(
    name="lumtak-light",
    dark=False,
    primary="#0b5c9e",
    secondary="#5f6a73",
    accent="#0b5c9e",
    foreground="#1f262c",
    background="#f7f5f0",
    surface="#efede7",
    panel="#e6e3dc",
    warning="#8a5a00",
    error="#a33c00",
    success="#0b5c9e",
    variables={
        "kind-guarded": "#7d8891",
        "kind-keep": "#2f76b0",
        "kind-ask": "#a98a3e",
        "kind-ease": "#cc5c00",
        "kind-aside": "#7d97ab",
        "kind-cache": "#c3cbd1",
        "kind-free": "#dcdad3",
        "soft": "#5f6a73",
        "rule": "#c9c6bd",
        "lit": "#000000",
        "cursor": "#e2e6ea",
    },
)

FILLS: dict[PieceKind, str] = {
    "guarded": "▓",
    "keep": "▒",
    "ask": "░",
    "ease": "█",
    "aside": "▚",
    "cache": "┄",
    "free": "·",
}
"""What a piece is drawn with, so that no stance is told by colour alone."""
HOLLOW, HATCH = "═", "╱"  # noqa: RUF001 - drawn, not read
"""Chosen; applied and not yet measured."""

WIDE = 110
"""From so many columns on there is room for whole words."""


class Palette:
    """The theme's colours by our own names."""

    def __init__(self, app: "App[object]") -> None:
        colours = app.theme_variables
        self.kinds: dict[PieceKind, str] = {kind: colours[f"kind-{kind}"] for kind in PIECE_KINDS}
        self.stances: dict[Stance, str] = {
            "set": colours["accent"],
            **{kind: self.kinds[kind] for kind in ("guarded", "keep", "ask", "ease")},
        }
        self.soft = colours["soft"]
        self.rule = colours["rule"]
        self.lit = colours["lit"]
        self.cursor = colours["cursor"]
        self.ink = colours["foreground"]
        self.accent = colours["accent"]
        self.ground = colours["background"]
        self.warning = colours["warning"]
