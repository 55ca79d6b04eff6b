"""Removing noise after the render.  Nothing here yet: the ledger keeps its place."""
