"""USD in:

usda, usdc and usdz, composed by its reference library, as far as a still picture needs it.
"""

from mill_lane.core.formats.usd.guard import read_usd

__all__ = ["read_usd"]
