"""How long a picture will take, from a trial that was measured."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.recipe import Recipe

# Half widths of the central 90 % interval, as shares.  A crop scaled up to the frame erred by up to
# 34 % in a study before this was written, a small whole view by about 10 %.
MARGIN_CROP = 0.34
MARGIN_WHOLE = 0.10
MARGIN_BOUNCES = 0.15  # a guess, added for each bounce that the trial did not have or had too many


@dataclass(frozen=True)
class Estimate:
    """Seconds, the half width of its 90 % interval, and what it was made from."""

    seconds: float
    margin: float
    source: str


def predict(
    recipe: Recipe,
    trial: Recipe,
    trial_seconds: float,
    trial_samples: float,
    trial_pixels: int,
    name: str,
    pixels: int | None = None,
) -> Estimate | None:
    """Predict the time of a picture by a trial's seconds per pixel and sample.

    Parameters
    ----------
    recipe : Recipe
        Of the picture.  Samples are taken at their maximum where no noise threshold or time limit
        can end the render earlier.
    trial : Recipe
        Of the trial.
    trial_seconds, trial_samples, trial_pixels : float, float, int
        What it took, samples in the mean, and how many pixels it had.
    name : str
        What the estimate is made from, in words.
    pixels : int, optional
        Of the picture, where it is a crop; all of the recipe's otherwise.

    Returns
    -------
    Estimate or None
        None when the trial measured nothing.
    """
    if trial_seconds <= 0 or trial_samples <= 0 or trial_pixels <= 0:
        return None
    rate = trial_seconds / (trial_pixels * trial_samples)
    seconds = rate * (pixels or recipe.width * recipe.height) * recipe.samples
    whole = trial_pixels >= 0.99 * trial.width * trial.height
    share = MARGIN_WHOLE if whole else MARGIN_CROP
    share += MARGIN_BOUNCES * abs(recipe.bounces - trial.bounces)
    if recipe.time_limit > 0:
        seconds = min(seconds, recipe.time_limit)
    return Estimate(seconds, seconds * min(share, 0.9), name)
