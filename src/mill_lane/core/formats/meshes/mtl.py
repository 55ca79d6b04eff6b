"""MTL: the materials of OBJ files, as the renderer's own.

Colours and pictures are taken over; `Ns`, the exponent of a shine, becomes a roughness by the
relation between Phong's exponent and the width of a microfacet distribution, alpha = sqrt(2 / (n +
2)) (Walter et al. 2007, section 5.2).  The extension for physically based values (`Pr`, `Pm`, `Pc`,
`Ke`, `norm`) goes before it.
"""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

from mill_lane.core.formats.blob import within
from mill_lane.core.formats.joined import rough_and_metal, with_opacity
from mill_lane.core.formats.sought import sought
from mill_lane.core.formats.textures import file_image, missing_image
from mill_lane.core.formats.udim import set_of
from mill_lane.core.scene.model import Image, Material, Note, Texture, TextureUse, Wrap

PLAIN = Material(base_color=(0.8, 0.8, 0.8, 1.0), metallic=0.0, roughness=0.7)
# How many numbers an option of a texture line takes.
OPTIONS = {
    "-o": 3,
    "-s": 3,
    "-t": 3,
    "-mm": 2,
    "-bm": 1,
    "-blendu": 1,
    "-blendv": 1,
    "-boost": 1,
    "-texres": 1,
    "-clamp": 1,
    "-imfchan": 1,
    "-type": 1,
    "-cc": 1,
}


REFRACTING = ("4", "6", "7", "9")  # of the illumination models
CHANNELS = {"r": 0, "g": 1, "b": 2, "m": 3, "l": -1}  # after -imfchan; m is the matte
HUE = 0.05  # by how much the channels of a colour differ that has one, of the largest
OPACITY = -2  # what tells a picture with opacity from one of roughness and metal


class Library:
    """The materials read so far, by name, and the pictures that they use."""

    def __init__(self, folder: Path, notes: list[Note]) -> None:
        self.folder, self.notes = folder, notes
        self.names: dict[str, int] = {}
        self.materials: list[Material] = []
        self.images: list[Image] = []
        self.textures: list[Texture] = []
        self._uses: dict[tuple[str, bool], int] = {}
        self._packs: dict[tuple[int, ...], int] = {}
        self.found = False

    def number(self, name: str) -> int:
        """The number of a material; one that no file describes is plain grey."""
        if name not in self.names:
            self.names[name] = len(self.materials)
            self.materials.append(replace(PLAIN, name=name))
            if self.found:
                self.notes.append(
                    Note(
                        "material_missing",
                        "look",
                        f"The material “{name}” is described nowhere: it is plain grey.",
                    )
                )
        return self.names[name]

    def add(self, material: Material) -> int:
        """The number of a material that no file describes."""
        self.materials.append(material)
        return len(self.materials) - 1

    def read(self, path: Path) -> None:
        """Add the materials of a file.  Lines that say nothing to a renderer are passed over."""
        self.found = True
        current: Material | None = None
        values: dict[str, str] = {}
        for line in path.read_text("utf-8", "replace").replace("\\\n", " ").splitlines():
            word, _, rest = line.strip().partition(" ")
            rest = rest.strip()
            if word == "newmtl":
                self._keep(current, values)
                current, values = replace(PLAIN, name=rest or f"material {len(self.materials)}"), {}
            elif word and not word.startswith("#"):
                values[word] = rest
        self._keep(current, values)

    def _keep(self, material: Material | None, values: dict[str, str]) -> None:
        if material is None or material.name in self.names:
            return
        try:
            made = self._made(material, values)
        except ValueError:
            self.notes.append(
                Note(
                    "material_damaged",
                    "look",
                    f"The material “{material.name}” is damaged: it is plain grey.",
                )
            )
            made = material
        self.names[made.name] = len(self.materials)
        self.materials.append(made)

    def _made(self, m: Material, values: dict[str, str]) -> Material:
        def number(key: str, usual: float) -> float:
            x = float(values[key].split()[0]) if values.get(key) else usual
            return x if math.isfinite(x) else usual

        def colour(key: str, usual: tuple[float, float, float]) -> tuple[float, float, float]:
            if not values.get(key) or values[key].split()[0] in ("xyz", "spectral"):
                return usual
            c = [max(0.0, float(x)) for x in values[key].split()[:3]]
            return (c[0], c[1], c[2]) if len(c) == 3 else (c[0], c[0], c[0])

        base = self._use(values.get("map_Kd"))
        diffuse = colour("Kd", (1.0, 1.0, 1.0) if base else (0.8, 0.8, 0.8))
        cut_out = bool(values.get("map_d"))
        if cut_out:
            base = self._with_opacity(base, values, m.name)
        if values.get("d", "").startswith("-halo"):  # less solid where it is seen aslant
            values["d"] = values["d"].removeprefix("-halo")
        alpha = min(
            max(
                1.0 - number("Tr", 0.0)
                if "Tr" in values and "d" not in values
                else number("d", 1.0),
                0.0,
            ),
            1.0,
        )
        roughness = math.sqrt(math.sqrt(2.0 / (max(number("Ns", 10.0), 0.0) + 2.0)))
        passes = colour("Tf", (1.0, 1.0, 1.0))
        clear = values.get("illum", "").strip() in REFRACTING and max(passes) > 0 and not cut_out
        if clear:
            # What is not solid of it is glass; without a shine of its own glass is polished.
            alpha, roughness = 1.0, roughness if "Ns" in values else 0.0
            diffuse = passes if "Tf" in values else _glass_colour(diffuse)
            diffuse = (1.0, 1.0, 1.0) if base is not None else diffuse
        emissive = colour("Ke", (0.0, 0.0, 0.0))
        emission = self._use(values.get("map_Ke"))
        rough_map, rough, metal = self._packed(values, m.name)
        if any(values.get(k) for k in ("map_Bump", "map_bump", "bump")) and not values.get("norm"):
            text = f"The bump picture of “{m.name}” is not drawn: a normal map (norm) would be."
            self.notes.append(Note("bump_picture", "lost", text))
        return replace(
            m,
            base_color=(*(min(c, 1.0) for c in diffuse), alpha),  # type: ignore[arg-type]
            metallic=metal if metal is not None else min(max(number("Pm", 0.0), 0.0), 1.0),
            roughness=rough if rough is not None else min(max(number("Pr", roughness), 0.0), 1.0),
            ior=min(number("Ni", 1.5), 4.0) if number("Ni", 1.5) > 1.0 else 1.5,
            clearcoat=min(max(number("Pc", 0.0), 0.0), 1.0),
            clearcoat_roughness=min(max(number("Pcr", 0.0), 0.0), 1.0),
            emissive=(1.0, 1.0, 1.0) if emission and emissive == (0.0, 0.0, 0.0) else emissive,
            transmission=1.0 if clear else 0.0,
            alpha_mode="BLEND" if alpha < 1.0 or cut_out else "OPAQUE",
            base_texture=base,
            emissive_texture=emission,
            normal_texture=self._use(values.get("norm")),
            roughness_texture=rough_map,
        )

    def _with_opacity(
        self, base: TextureUse | None, values: dict[str, str], name: str
    ) -> TextureUse | None:
        """The base colour's picture with that of the opacity as its alpha."""
        opacity = self._use(values["map_d"])
        if opacity is None:
            return base
        laid = base or opacity
        if (opacity.offset, opacity.scale) != (laid.offset, laid.scale):
            differ = "are laid out differently: both as the colour."
            said = f"Colour and opacity of “{name}” {differ}"
            self.notes.append(Note("opacity_layout", "look", said))
        words = values["map_d"].split()
        said = words[words.index("-imfchan") + 1] if "-imfchan" in words[:-1] else ""
        channel = CHANNELS.get(said, -1)
        key = (base.texture if base else -1, opacity.texture, channel, OPACITY)
        if key not in self._packs:
            if base is not None and opacity.texture == base.texture and channel in (-1, 3):
                return base  # the alpha of the colour's own picture
            old = self.textures[laid.texture]
            colour = self.images[old.image] if base else None
            mask = self.images[self.textures[opacity.texture].image]
            title = f"{old.name} and opacity" if base else old.name
            self._packs[key] = len(self.textures)
            self.textures.append(Texture(title, len(self.images), old.wrap_u, old.wrap_v))
            self.images.append(with_opacity(colour, mask, title, channel, self.notes))
        return replace(laid, texture=self._packs[key])

    def _packed(
        self, values: dict[str, str], name: str
    ) -> tuple[TextureUse | None, float | None, float | None]:
        """The roughness and metal pictures as one, and the factors that go with it.

        A picture stands in the place of its value; what has none keeps the value, as a factor.
        """
        uses = [self._use(values.get(key)) for key in ("map_Pr", "map_Pm")]
        first = next((u for u in uses if u is not None), None)
        if first is None:
            return None, None, None
        both = [u for u in uses if u is not None]
        if any((u.offset, u.scale) != (first.offset, first.scale) for u in both):
            maps = f"Roughness and metal of “{name}”"
            text = f"{maps} are laid out differently: both as the first."
            self.notes.append(Note("roughness_layout", "look", text))
        key = tuple(u.texture if u is not None else -1 for u in uses)
        if key not in self._packs:
            images = [self.images[self.textures[u.texture].image] if u else None for u in uses]
            title = " and ".join(self.textures[k].name for k in dict.fromkeys(key) if k >= 0)
            old = self.textures[first.texture]
            self._packs[key] = len(self.textures)
            self.textures.append(Texture(title, len(self.images), old.wrap_u, old.wrap_v))
            self.images.append(rough_and_metal(images[0], images[1], title, self.notes))
        use = replace(first, texture=self._packs[key])
        return use, *(1.0 if u is not None else None for u in uses)  # type: ignore[return-value]

    def _use(self, text: str | None) -> TextureUse | None:
        """The texture that a line names, after its options."""
        if not text:
            return None
        words, numbers = text.split(), {}
        while words and words[0] in OPTIONS:
            option, n = words[0], 0
            words = words[1:]
            kept = []
            while n < OPTIONS[option] and len(words) > 1 and _is_number(words[0], option):
                kept.append(words.pop(0))
                n += 1
            numbers[option] = kept
        name = " ".join(words).replace("\\", "/")
        if not name:
            return None
        key = (name, "on" in numbers.get("-clamp", []))
        if key not in self._uses:
            wrap: Wrap = "clamp" if key[1] else "repeat"
            self._uses[key] = len(self.textures)
            texture = Texture(Path(name).stem, len(self.images), wrap, wrap)
            self.textures.append(texture)
            self.images.append(self._image(name))
        scale = [float(x) for x in numbers.get("-s", [])[:2]] or [1.0, 1.0]
        offset = [float(x) for x in numbers.get("-o", [])[:2]] or [0.0, 0.0]
        if len(scale) < 2 or len(offset) < 2:
            raise ValueError(text)
        return TextureUse(
            self._uses[key],
            offset=(offset[0], 1.0 - scale[1] - offset[1]),
            scale=(scale[0], scale[1]),
        )

    def _image(self, name: str) -> Image:
        found = sought(self.folder, name)
        path = found.path
        self.notes += found.told(name)
        tiles = set_of(path, lambda p: file_image(p, p.name, self.notes))
        if tiles is not None:
            return tiles
        if not path.is_file():
            return missing_image(name, self.notes)
        return replace(file_image(path, path.name, self.notes), file=within(self.folder, path))


def _glass_colour(diffuse: tuple[float, float, float]) -> tuple[float, float, float]:
    """The colour of glass whose filter is not said: clear, but for what has a hue."""
    most, least = max(diffuse), min(diffuse)
    if most - least < HUE * most or most <= 0:
        return (1.0, 1.0, 1.0)
    r, g, b = (c / most for c in diffuse)
    return (r, g, b)


def _is_number(word: str, option: str) -> bool:
    if option in ("-clamp", "-blendu", "-blendv", "-cc"):
        return word in ("on", "off")
    if option in ("-imfchan", "-type"):
        return True
    try:
        float(word)
    except ValueError:
        return False
    return True
