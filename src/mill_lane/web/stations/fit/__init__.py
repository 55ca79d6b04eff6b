"""Fit: the memory ledger against the device."""
