"""Jobs on disk: everything that was read, judged, chosen and proved, so that a job goes on where it
was.
"""

from lumtak.casebook.heading import STATIONS, Heading, Station

__all__ = ["STATIONS", "Heading", "Station"]
