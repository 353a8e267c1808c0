"""Definitions run over files: a small world in tables, played through the very pipeline that runs live."""

from .folder import Folder, read_folder
from .run import Counts, Passed, Told, differences, play
from .tables import FileError

__all__ = ["Counts", "FileError", "Folder", "Passed", "Told", "differences", "play", "read_folder"]
