"""Words of sheets and reports that are to be translated, and which of them a language lacks.

Run: .venv/bin/python scripts/messages.py de
"""

import argparse
import ast
import sys
from importlib.resources import files
from pathlib import Path

from lumtak.core.felt import MEASURES
from lumtak.core.notice import every
from lumtak.core.strip import PIECE_KIND_WORDS
from lumtak.core.upkeep.due import title_of
from lumtak.core.upkeep.tasks import TASKS
from lumtak.report import figures, terms
from lumtak.report.sheet.words import CAME, FELT, TITLES
from lumtak.work.knowledge import shipped_catalogue


def messages() -> list[str]:
    """All of them: literal words that are said, tables, what roles say to owners."""
    folder = Path(str(files("lumtak") / "report"))
    found: dict[str, None] = {}
    for path in sorted(folder.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and _is_say(node.func) and node.args:
                first = node.args[0]
                if isinstance(first, ast.Constant) and isinstance(first.value, str):
                    found[first.value] = None
    tables = [*CAME.values(), *TITLES.values()]
    tables += [words for w in FELT.values() for words in (w.title, w.says)]
    tables += [m.title for m in MEASURES.values()]
    tables += [*PIECE_KIND_WORDS.values(), "at the audit", "now"]
    tables += [*(t.title for t in TASKS.values()), title_of("audit")]
    tables += [*figures.FINDINGS.values(), *figures.TITLES.values(), *terms.EVERY.values()]
    tables += [*terms.ENDED.values(), "unknown"]
    tables += [*terms.STAGES.values(), *terms.VALUES.values()]
    tables += [*every(), *(role.notice for role in shipped_catalogue().role)]
    return [*found, *sorted({words for words in tables if words} - found.keys())]


def _is_say(function: ast.expr) -> bool:
    name = function.attr if isinstance(function, ast.Attribute) else getattr(function, "id", "")
    return name in {"say", "_say"}


def untranslated(language: str) -> list[str]:
    """Those that a language has no words for, or words with other values in them."""
    from string import Formatter

    from babel.messages.pofile import read_po

    path = files("lumtak") / "data" / "languages" / f"{language}.po"
    with path.open("rb") as file:
        known = {str(m.id): str(m.string) for m in read_po(file, locale=language) if m.id}

    def values(text: str) -> set[str]:
        return {name for _, name, _, _ in Formatter().parse(text) if name}

    return [m for m in messages() if not known.get(m) or values(known[m]) != values(m)]


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("language", help="such as de")
    lacking = untranslated(parser.parse_args().language)
    print("\n".join(lacking) or "Nothing is lacking.")
    sys.exit(bool(lacking))
