"""Yard Bolt: check, tighten and prove the management plane of freshly commissioned appliances."""

__version__ = "0.1.0"
