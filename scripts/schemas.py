"""JSON Schemas of the file formats, from the records themselves: `make schemas`."""

import sys
from pathlib import Path

import msgspec

from lumtak.core.load import Reading
from lumtak.core.profile import Profile
from lumtak.journal import Entry
from lumtak.report.content import Content
from lumtak.stations.capture import Capture

FORMATS = {"profile": Profile, "reading": Reading, "job": Content, "change": Entry, "capture": Capture}


def main() -> None:
    """Write one schema a format."""
    target = Path(sys.argv[1])
    for name, record in FORMATS.items():
        schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **msgspec.json.schema(record)}
        (target / f"{name}.schema.json").write_bytes(msgspec.json.format(msgspec.json.encode(schema), indent=1) + b"\n")


if __name__ == "__main__":
    main()
