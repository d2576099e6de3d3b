"""The HTTP interface, and the built workbench."""
