"""Faithful Stripe: RAID arrays for the server technician, from the empty server to the worst day."""

__version__ = "0.1.0"
