"""One of each capability, as a stranger would add it from outside the package."""
