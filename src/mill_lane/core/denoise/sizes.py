"""What denoising takes in memory."""

from __future__ import annotations

# Strips are read with their margins and thrown away; see `strips.Settings.rows`.  Measured on
# pictures of 0.2 to 8.3 megapixels: what a pixel of a strip takes at once, and what is kept a pixel
# of the picture until it is written.
STRIP_PIXELS = 450_000
STRIP_BYTES, KEPT_BYTES = 380, 44
FIXED_BYTES = 36 * 10**6


def denoise_bytes(width: int, height: int) -> int:
    """Predict the bytes that taking the noise out of a picture needs, thoroughly, beside others."""
    pixels = width * height
    return FIXED_BYTES + STRIP_BYTES * min(pixels, STRIP_PIXELS) + KEPT_BYTES * pixels
