"""The made-up job: a village bakery before opening, built by code, the same bits every time."""
