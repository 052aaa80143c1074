"""Jobs on disk: everything that was read, judged, chosen and proved, so that a job goes on where it
was.
"""

from lumtak.casebook.job import STATIONS, Heading, Job, Station
from lumtak.casebook.store import Casebook

__all__ = ["STATIONS", "Casebook", "Heading", "Job", "Station"]
