"""Mill Lane: fit a 3D scene to the computer at hand, so that the frames finish."""

__version__ = "0.1.0"
