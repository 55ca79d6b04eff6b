"""What is usual of the denoiser, and what pictures are called that it makes of a render."""

from __future__ import annotations

STRENGTH = 0.65  # of the clean picture, as a rule (common practice)
RADIUS = 7  # pixels to either side from which a pixel learns
DENOISED, LOST = "denoised", "lost"
TITLES = {DENOISED: "denoised", LOST: "map: detail lost with the noise"}
KEPT_EXR = "denoised_exr"  # raw and clean light and maps, from which blends are shown
MASKS = {"": "everywhere", "dark": "in the dark", "noise": "where it is noisy"}
