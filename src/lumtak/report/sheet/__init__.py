"""The sheet: one page for the owner of a computer, in words to them.

`says` works out what stands on it, `money` what no setting mends, `page` draws it, `preview` shows
it in a terminal.
"""

from lumtak.report.sheet.record import Bar, Kind, Line, Part, Sheet
from lumtak.report.sheet.says import sheet_of

__all__ = ["Bar", "Kind", "Line", "Part", "Sheet", "sheet_of"]
