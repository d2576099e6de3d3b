"""Grey Heron: access lists in the right place, proved."""
