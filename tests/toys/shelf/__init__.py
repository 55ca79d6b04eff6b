"""A station: what stands on the shelf."""
