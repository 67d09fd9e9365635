"""Real hosts in namespaces of their own, as the bench makes them."""

from yardbolt.bench.realhost import OFFICE, STATION, STRANGER, TECHNICIAN, Host, missing, run

__all__ = ["OFFICE", "STATION", "STRANGER", "TECHNICIAN", "Host", "missing", "run"]
