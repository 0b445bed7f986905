"""Formats of `apk` systems: records, archives, lists of what is offered, versions."""
