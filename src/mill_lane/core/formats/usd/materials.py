"""UsdPreviewSurface as the renderer's materials, with the pictures plugged into it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from mill_lane.core.formats.blob import within
from mill_lane.core.formats.joined import rough_and_metal, with_opacity
from mill_lane.core.formats.sought import boundary, sought
from mill_lane.core.formats.textures import file_image, missing_image
from mill_lane.core.formats.udim import set_of
from mill_lane.core.formats.usd.kept import TOKEN
from mill_lane.core.scene.model import Image, Material, Note, Texture, TextureUse, Wrap

PLAIN = Material("plain", (0.8, 0.8, 0.8, 1.0), metallic=0.0, roughness=0.7)
# What wears its display colours: they are colours of its vertices.
DISPLAY = Material("display colours", (1.0, 1.0, 1.0, 1.0), metallic=0.0, roughness=0.7)
WRAPS: dict[str, Wrap] = {
    "repeat": "repeat",
    "mirror": "mirror",
    "clamp": "clamp",
    "black": "clamp",
    "useMetadata": "repeat",
}
CHANNELS = {"r": 0, "g": 1, "b": 2, "a": 3}


def _both_sides(prim: Any) -> bool:
    """Whether a mesh, or the one that a subset of faces belongs to, is drawn from both sides."""
    from pxr import UsdGeom

    gprim = UsdGeom.Gprim(prim) or UsdGeom.Gprim(prim.GetParent())
    return bool(gprim and gprim.GetDoubleSidedAttr().Get())


def opacity_laid_out(name: str) -> Note:
    """What is told where opacity and base colour are laid out differently."""
    text = f"Colour and opacity of “{name}” are laid out differently: both as the colour."
    return Note("opacity_layout", "look", text)


def _unit(x: float) -> float:
    return min(max(x, 0.0), 1.0)


class Materials:
    """The materials met so far, by their place in the stage."""

    def __init__(self, root: Path, notes: list[Note]) -> None:
        self.root, self.notes = root, notes
        self.all: list[Material] = []
        self.images: list[Image] = []
        self.textures: list[Texture] = []
        # For handing the stage back: which picture each texture shader shows, and the inputs that
        # read a channel of a picture that was put together here.
        self.pictures: dict[str, str] = {}
        self.packed: dict[str, tuple[str, str]] = {}
        self._numbers: dict[str, int] = {}
        self._files: dict[str, int] = {}
        self._read: dict[str, Material] = {}

    def add(self, key: str, material: Material) -> int:
        """The number of a material made here, once for each key."""
        if key not in self._numbers:
            self._numbers[key] = len(self.all)
            self.all.append(material)
        return self._numbers[key]

    def bound(self, prim: Any) -> int:
        """The number of the material bound to a mesh, or to a subset of its faces.

        What is drawn from one side alone and what is drawn from both wear materials of their own.
        """
        from pxr import UsdGeom, UsdShade

        both = _both_sides(prim)
        material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        if material and material.GetPrim().IsValid():
            path = str(material.GetPath())
            if path not in self._read:
                self._read[path] = self._made(material)
            made = replace(self._read[path], double_sided=both)
            if f"{path} {not both}" in self._numbers:
                made = replace(made, name=f"{made.name}, {'both sides' if both else 'one side'}")
            return self.add(f"{path} {both}", made)
        colour = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
        values = colour.ComputeFlattened() if colour and colour.HasValue() else None
        if values is not None and len(values) > 1:
            return self.add(f"display colours {both}", replace(DISPLAY, double_sided=both))
        if values is not None and len(values) == 1:
            r, g, b = (float(min(max(x, 0.0), 1.0)) for x in values[0])
            name = f"colour {r:.2f} {g:.2f} {b:.2f}"
            worn = replace(PLAIN, name=name, base_color=(r, g, b, 1.0), double_sided=both)
            return self.add(f"colour {r:.5f} {g:.5f} {b:.5f} {both}", worn)
        return self.add(f"plain {both}", replace(PLAIN, double_sided=both))

    def _made(self, material: Any) -> Material:
        name = material.GetPrim().GetName()
        shader, _, _ = material.ComputeSurfaceSource()
        kind = str(shader.GetIdAttr().Get() or "") if shader else ""
        if kind != "UsdPreviewSurface":
            what = "MaterialX" if "mtlx" in str(material.GetPrim().GetPropertyNames()) else kind
            kept = what or "empty"
            text = f"The material “{name}” is {kept}, no UsdPreviewSurface: it is grey."
            self.notes.append(Note("material_not_preview", "lost", text))
            path = str(material.GetPath())
            return Material(name, PLAIN.base_color, metallic=0.0, roughness=0.7, path=path)

        def number(key: str, usual: float) -> float:
            value = self._value(shader, key)
            return float(value) if isinstance(value, (int, float)) and np.isfinite(value) else usual

        def colour(key: str, usual: tuple[float, float, float]) -> tuple[float, float, float]:
            value = self._value(shader, key)
            if value is None:
                return usual
            r, g, b = (max(0.0, float(x)) for x in value)
            return r, g, b

        base, _ = self._use(shader, "diffuseColor")
        emission, _ = self._use(shader, "emissiveColor")
        tint, _ = self._scaled(shader, "diffuseColor", name)
        glow, _ = self._scaled(shader, "emissiveColor", name)
        metal, _ = self._scaled(shader, "metallic", name)
        coarse, _ = self._scaled(shader, "roughness", name)
        normal, _ = self._use(shader, "normal")
        rough = self._rough(shader)
        opacity = min(max(number("opacity", 1.0), 0.0), 1.0)
        see_through, channel = self._use(shader, "opacity")
        cutoff = number("opacityThreshold", 0.0)
        clear = see_through is not None or opacity < 1.0
        r, g, b = tint[:3] if base is not None else colour("diffuseColor", (0.18, 0.18, 0.18))
        if see_through is not None:
            # What is plugged in stands in the place of the value.
            scale, scaled = self._scaled(shader, "opacity", name)
            opacity = _unit(self._channel(shader, "opacity", scale)) if scaled else 1.0
            if base is None or see_through.texture != base.texture or channel != "a":
                base = self._with_opacity(shader, base, see_through, CHANNELS.get(channel, 0), name)
        return Material(
            name,
            (min(r, 1.0), min(g, 1.0), min(b, 1.0), opacity),
            metallic=_unit(
                self._channel(shader, "metallic", metal)
                if self._connected(shader, "metallic")
                else number("metallic", 0.0)
            ),
            roughness=_unit(
                self._channel(shader, "roughness", coarse)
                if self._connected(shader, "roughness")
                else number("roughness", 0.5)
            ),
            emissive=(max(glow[0], 0.0), max(glow[1], 0.0), max(glow[2], 0.0))
            if emission is not None
            else colour("emissiveColor", (0.0, 0.0, 0.0)),
            ior=min(max(number("ior", 1.5), 1.0), 4.0),
            clearcoat=min(max(number("clearcoat", 0.0), 0.0), 1.0),
            clearcoat_roughness=min(max(number("clearcoatRoughness", 0.01), 0.0), 1.0),
            alpha_mode="OPAQUE" if not clear else "MASK" if cutoff > 0 else "BLEND",
            alpha_cutoff=cutoff if cutoff > 0 else 0.5,
            base_texture=base,
            emissive_texture=emission,
            normal_texture=normal,
            roughness_texture=rough,
            path=str(material.GetPath()),
        )

    def _scaled(self, shader: Any, key: str, name: str) -> tuple[tuple[float, ...], bool]:
        """By what a plugged-in picture's channels are multiplied, and whether the file says so.

        What is added to them beside that cannot be kept, but for what unpacks a normal map.
        """
        if not self._connected(shader, key):
            return (1.0, 1.0, 1.0, 1.0), False
        source, _ = self._source(shader, key)
        scale, bias = self._value(source, "scale"), self._value(source, "bias")
        if bias is not None and any(abs(float(x)) > 1e-6 for x in list(bias)[:3]):
            self.notes.append(
                Note(
                    "texture_bias",
                    "lost",
                    f"What is added to the {key} picture of “{name}” (its bias) is not drawn.",
                )
            )
        if scale is None:
            return (1.0, 1.0, 1.0, 1.0), False
        return tuple(float(x) for x in scale), True

    def _channel(self, shader: Any, key: str, scale: tuple[float, ...]) -> float:
        """The scale of the one channel that an input reads."""
        _, channel = self._source(shader, key)
        return scale[CHANNELS.get(channel, 0)]

    def _source(self, shader: Any, key: str) -> tuple[Any, str]:
        """The shader that an input is connected to, and which of its outputs; (None, "") where it
        is not.
        """
        socket = shader.GetInput(key)
        if not socket or not socket.HasConnectedSource():
            return None, ""
        sources = socket.GetConnectedSources()[0]
        from pxr import UsdShade

        return (
            (UsdShade.Shader(sources[0].source.GetPrim()), str(sources[0].sourceName))
            if sources
            else (None, "")
        )

    def _connected(self, shader: Any, key: str) -> bool:
        source, _ = self._source(shader, key)
        return bool(source) and source.GetIdAttr().Get() == "UsdUVTexture"

    def _value(self, shader: Any, key: str) -> Any:
        socket = shader.GetInput(key)
        if not socket:
            return None
        attributes = socket.GetValueProducingAttributes()
        return attributes[0].Get() if attributes else None

    def _use(self, shader: Any, key: str) -> tuple[TextureUse | None, str]:
        """The texture plugged into an input, and the channel of it."""
        if not self._connected(shader, key):
            return None, ""
        source, channel = self._source(shader, key)
        asset = self._value(source, "file")
        if asset is None or not asset.path:
            return None, ""
        wraps = [WRAPS.get(str(self._value(source, w)), "repeat") for w in ("wrapS", "wrapT")]
        texture = self._texture(source, asset.path, wraps[0], wraps[1])
        offset, scale, turn = (0.0, 0.0), (1.0, 1.0), 0.0
        mover, _ = self._source(source, "st")
        if mover and mover.GetIdAttr().Get() == "UsdTransform2d":
            s, t = (
                self._value(mover, "scale") or (1.0, 1.0),
                self._value(mover, "translation") or (0.0, 0.0),
            )
            turn = float(np.radians(float(self._value(mover, "rotation") or 0.0)))
            # From V up to V down: p' = f(R S f(p) + t) with f(p) = (u, 1 - v).
            c, n = float(np.cos(turn)), float(np.sin(turn))
            scale = (float(s[0]), float(s[1]))
            offset = (float(t[0]) - n * scale[1], 1.0 - float(t[1]) - c * scale[1])
        return TextureUse(texture, offset=offset, rotation=turn, scale=scale), channel

    def _texture(self, source: Any, asset: str, wrap_u: Wrap, wrap_v: Wrap) -> int:
        key = f"{asset} {wrap_u} {wrap_v}"
        if key not in self._files:
            stack = source.GetInput("file").GetAttr().GetPropertyStack()
            layer = Path(stack[0].layer.realPath).parent if stack else self.root
            found = sought(layer, asset, self.root)
            path = found.path
            self.notes += found.told(asset)
            image = set_of(path, lambda p: file_image(p, p.name, self.notes)) or (
                replace(
                    file_image(path, path.name, self.notes),
                    file=within(boundary(self.root), path),
                )
                if path.is_file()
                else missing_image(Path(asset).name, self.notes)
            )
            self._files[key] = len(self.textures)
            self.textures.append(Texture(Path(asset).stem, len(self.images), wrap_u, wrap_v))
            self.images.append(self._tokened(image))
        token = self.images[self.textures[self._files[key]].image].path
        self.pictures[str(source.GetPath())] = token
        return self._files[key]

    def _tokened(self, image: Image) -> Image:
        """The picture, and each tile of a set, under the name that it has in the kept stage."""
        token = f"{TOKEN}{len(self.images)}"
        if not image.tiles:
            return replace(image, path=token)
        tiles = {n: replace(t, path=f"{token}.{n}") for n, t in image.tiles.items()}
        return replace(image, path=f"{token}.<UDIM>", tiles=tiles)

    def _rough(self, shader: Any) -> TextureUse | None:
        """One picture with roughness in green and metal in blue, as the renderer wants it, put
        together where needed.
        """
        rough, rough_channel = self._use(shader, "roughness")
        metal, metal_channel = self._use(shader, "metallic")
        use = rough or metal
        if use is None:
            return None
        same = rough is None or metal is None or rough.texture == metal.texture
        if same and rough_channel in ("g", "") and metal_channel in ("b", ""):
            return use
        if (
            rough is not None
            and metal is not None
            and (rough.offset, rough.scale, rough.rotation)
            != (metal.offset, metal.scale, metal.rotation)
        ):
            self.notes.append(
                Note(
                    "roughness_layout",
                    "look",
                    "A roughness and a metal picture are laid out differently: both follow the "
                    "first.",
                )
            )
        name = " and ".join(
            self.textures[u.texture].name for u in dict.fromkeys(x for x in (rough, metal) if x)
        )
        old = self.textures[use.texture]
        self.textures.append(Texture(name, len(self.images), old.wrap_u, old.wrap_v))
        images = [
            self.images[self.textures[u.texture].image] if u else None for u in (rough, metal)
        ]
        channels = (CHANNELS.get(rough_channel, 0), CHANNELS.get(metal_channel, 0))
        self.images.append(
            self._tokened(rough_and_metal(images[0], images[1], name, self.notes, channels))
        )
        self._repack(shader, self.images[-1].path)
        return TextureUse(
            len(self.textures) - 1, offset=use.offset, rotation=use.rotation, scale=use.scale
        )

    def _with_opacity(
        self, shader: Any, base: TextureUse | None, opacity: TextureUse, channel: int, name: str
    ) -> TextureUse:
        """One picture with the opacity as its alpha, laid out as the base colour is."""
        laid = base or opacity
        if (opacity.offset, opacity.scale, opacity.rotation) != (
            laid.offset,
            laid.scale,
            laid.rotation,
        ):
            self.notes.append(opacity_laid_out(name))
        old = self.textures[laid.texture]
        colour = self.images[old.image] if base else None
        mask = self.images[self.textures[opacity.texture].image]
        title = f"{old.name} and opacity" if base else old.name
        self.textures.append(Texture(title, len(self.images), old.wrap_u, old.wrap_v))
        self.images.append(self._tokened(with_opacity(colour, mask, title, channel, self.notes)))
        source, _ = self._source(shader, "diffuseColor" if base else "opacity")
        self.pictures[str(source.GetPath())] = self.images[-1].path
        self.packed[str(shader.GetInput("opacity").GetAttr().GetPath())] = (
            str(source.GetPath()),
            "a",
        )
        return replace(laid, texture=len(self.textures) - 1)

    def _repack(self, shader: Any, token: str) -> None:
        """Where the stage is handed back, both inputs read the picture that was put together."""
        for key, channel in (("roughness", "g"), ("metallic", "b")):
            source, _ = self._source(shader, key)
            if source and source.GetIdAttr().Get() == "UsdUVTexture":
                self.pictures[str(source.GetPath())] = token
                socket = shader.GetInput(key)
                place = str(socket.GetAttr().GetPath())
                self.packed[place] = (str(source.GetPath()), channel)
