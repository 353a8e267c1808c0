"""What the command line was given and cannot use."""

from __future__ import annotations

from oculum.errors import OculumError


class Misuse(OculumError):
    """Something given on the command line, in a file that it names, or answered, that cannot be used."""
