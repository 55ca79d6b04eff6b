"""What is usual of the denoiser, and what pictures are called that it makes of a render."""

from __future__ import annotations

STRENGTH = 0.65  # of the clean picture, as a rule (common practice)
MOST_BESIDE = 3  # frames before and after
RADIUS = 7  # pixels to either side from which a pixel learns
DENOISED, LOST, MASK = "denoised", "lost", "mask"
TITLES = {
    DENOISED: "denoised",
    LOST: "map: detail lost with the noise",
    MASK: "mask: where it is clean",
}
KEPT_EXR = "denoised_exr"  # raw and clean light and maps, from which blends are shown
MASKS = {"": "everywhere", "dark": "in the dark", "noise": "where it is noisy"}
OBJECTS, PICTURE = "objects", "picture"
PICKED = {OBJECTS: "on picked objects", PICTURE: "where it is painted"}  # masks made by hand
