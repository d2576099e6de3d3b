"""Grey Heron: access lists in the right place, proved."""

__version__ = "0.1.0"
