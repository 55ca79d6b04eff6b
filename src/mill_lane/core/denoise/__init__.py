"""Cleaning up grain after the render.  Nothing here yet: the ledger keeps its place."""
