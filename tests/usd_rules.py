"""What the rules of USD itself have against a stage: the validators that come with usd-core."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from pxr import Usd, UsdValidation


def complaints(path: Path) -> Counter[str]:
    """Count what every validator of the library calls an error, by the validator's own name."""
    validators = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
    found = UsdValidation.ValidationContext(validators).Validate(Usd.Stage.Open(str(path)))
    errors = [e for e in found if e.GetType() == UsdValidation.ValidationErrorType.Error]
    return Counter(f"{e.GetValidator().GetMetadata().name}: {e.GetName()}" for e in errors)
