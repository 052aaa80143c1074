"""The plotting library, which keeps folders of its own.

Those go to a temporary place, and with the program.
"""

import atexit
import os
import shutil
import tempfile
from types import ModuleType


def plotting() -> ModuleType:
    """matplotlib; costs 0.6 s the first time."""
    if "MPLCONFIGDIR" not in os.environ:
        folder = tempfile.mkdtemp(prefix="lumtak-plots-")
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        os.environ["MPLCONFIGDIR"] = folder
    import matplotlib as mpl

    return mpl
