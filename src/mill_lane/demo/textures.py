"""The list of the bakery's textures: what each shows, and in which file format it came."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from numpy.typing import NDArray

from mill_lane.demo import patterns as p

LOAVES = ("rye", "wheat", "spelt", "malt", "seed", "milk")
LABELS = (
    ("Rye loaf", "2.40"),
    ("Wheat loaf", "2.10"),
    ("Spelt", "3.20"),
    ("Malt roll", "0.60"),
    ("Seed roll", "0.70"),
    ("Milk roll", "0.55"),
)


@dataclass(frozen=True)
class Picture:
    """A picture that is to be painted and encoded."""

    name: str
    mime: str
    make: Callable[[int], NDArray[Any]]  # of a side in pixels


def pictures() -> list[Picture]:
    """Every texture of the scene, in the order of its images."""
    jpeg, png = "image/jpeg", "image/png"
    out: list[Picture] = []

    def colour(
        name: str, kind: str, dark: tuple[float, ...], light: tuple[float, ...], mime: str = jpeg
    ) -> None:
        out.append(Picture(f"{name}_colour", mime, lambda n: p.colours(kind, name, n, dark, light)))

    def normal(name: str, kind: str, depth: float, wide: bool = False) -> None:
        def make(n: int) -> NDArray[Any]:
            map_ = p.normals(kind, name, n, depth)
            return p.sixteen_bits(map_) if wide else map_

        # Normal maps stay free of loss where they are looked at closely; the others came as JPEG
        # from a library.
        out.append(
            Picture(f"{name}_normal", png if wide or name in ("counter", "wheat") else jpeg, make)
        )

    def rough(name: str, kind: str, low: float, high: float, metal: float = 0.0) -> None:
        out.append(
            Picture(f"{name}_rough", jpeg, lambda n: p.roughness(kind, name, n, low, high, metal))
        )

    def full(
        name: str,
        kind: str,
        dark: tuple[float, ...],
        light: tuple[float, ...],
        depth: float,
        *r: float,
    ) -> None:
        colour(name, kind, dark, light)
        normal(name, kind, depth)
        rough(name, kind, *r)

    full("plaster", "plaster", (0.62, 0.58, 0.5), (0.86, 0.82, 0.74), 0.4, 0.7, 0.95)
    full("floor", "tiles", (0.2, 0.16, 0.13), (0.52, 0.36, 0.27), 0.8, 0.25, 0.6)
    full("counter", "planks", (0.24, 0.13, 0.06), (0.56, 0.36, 0.19), 0.7, 0.3, 0.6)
    full("oven", "iron", (0.08, 0.08, 0.085), (0.16, 0.16, 0.165), 0.5, 0.35, 0.6, 1.0)
    colour("rack", "iron", (0.3, 0.3, 0.3), (0.55, 0.55, 0.53))
    rough("rack", "iron", 0.3, 0.5, 1.0)
    full("shelving", "planks", (0.2, 0.14, 0.1), (0.42, 0.3, 0.2), 0.6, 0.5, 0.8)
    full("facade", "bricks", (0.34, 0.3, 0.26), (0.55, 0.35, 0.27), 1.2, 0.7, 0.95)
    full("cobbles", "tiles", (0.12, 0.12, 0.13), (0.33, 0.33, 0.35), 1.5, 0.5, 0.9)
    for i, name in enumerate(LOAVES):
        k = i / 5
        colour(
            name,
            "crust",
            (0.3 + 0.1 * k, 0.15 + 0.07 * k, 0.05),
            (0.75 + 0.15 * k, 0.5 + 0.2 * k, 0.25 + 0.2 * k),
        )
        normal(name, "crust", 1.0)
    for line, price in LABELS:
        # Cards of six by six centimetres.
        out.append(
            Picture(
                f"label_{line.split()[0].lower()}",
                png,
                lambda n, line=line, price=price: p.lettering(
                    n, [line, price], (240, 232, 214), (40, 30, 24)
                ),  # type: ignore[misc]
            )
        )
    colour("sack", "cloth", (0.5, 0.45, 0.36), (0.82, 0.77, 0.66))
    normal("sack", "cloth", 0.5)
    colour("bark", "bricks", (0.14, 0.11, 0.09), (0.32, 0.27, 0.22))
    normal("bark", "bricks", 1.0, wide=True)
    out.append(Picture("leaf_colour", png, p.leaf))
    normal("moulding", "plaster", 0.3, wide=True)
    colour("lid", "iron", (0.5, 0.42, 0.2), (0.75, 0.62, 0.3))
    colour("basket", "cloth", (0.3, 0.2, 0.1), (0.6, 0.44, 0.26))
    normal("basket", "cloth", 1.2)
    out.append(
        Picture(
            "sign_colour",
            jpeg,
            lambda n: p.lettering(
                n, ["Mill Lane", "bakery", "opens at 7"], (38, 60, 52), (230, 218, 190)
            ),
        )
    )
    colour("apron", "cloth", (0.2, 0.22, 0.26), (0.4, 0.43, 0.48))
    return out
