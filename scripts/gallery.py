"""Sheets, reports and charts of all made-up computers, in every language, each page a picture.

Run: make gallery, or .venv/bin/python scripts/gallery.py FOLDER
"""

import argparse
import shutil
import subprocess
from pathlib import Path

from lumtak.computers.simulated.heads import fleet
from lumtak.report.tongue import languages
from lumtak.work.example import run_example

DPI = 100


def gallery(folder: Path, seed: int = 7) -> list[Path]:
    """Render everything; gives the folders, one a computer and language."""
    made = []
    for scenario in fleet():
        for language in languages():
            out = folder / f"{scenario}-{language}"
            out.mkdir(parents=True, exist_ok=True)
            run_example(out, seed, lambda _: None, scenario, language)
            made.append(out)
            for name in ("sheet", "report"):
                pictures(out / f"{name}.pdf")
    return made


def pictures(pdf: Path) -> None:
    """Each page as a picture, where the system has what draws them."""
    if shutil.which("pdftoppm"):
        command = ["pdftoppm", "-r", str(DPI), "-png", str(pdf), str(pdf.with_suffix(""))]
        subprocess.run(command, check=True)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", nargs="?", type=Path, default=Path("gallery"))
    for place in gallery(parser.parse_args().folder):
        print(place)
