"""The notation for entries, lists and test flows: reading, writing, completing (§11).

One parser serves all three uses. It records what could stand at each word; a word that does not fit
is reported with that record, and completion is that record at the cursor.
"""
