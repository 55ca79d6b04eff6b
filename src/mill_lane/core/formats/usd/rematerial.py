"""Materials of a stage that are others now: pictures put in place of others, or of none."""

from __future__ import annotations

from typing import Any

from mill_lane.core.formats.usd.editing import Editor
from mill_lane.core.formats.usd.kept import TOKEN
from mill_lane.core.scene.model import Material, Note, Scene, TextureUse
from mill_lane.core.words import plural

# Which inputs of a UsdPreviewSurface read the picture of each slot.
INPUTS = {
    "base_texture": ("diffuseColor",),
    "emissive_texture": ("emissiveColor",),
    "roughness_texture": ("roughness", "metallic"),
    "normal_texture": ("normal",),
}


def put_materials(editor: Editor, scene: Scene, before: Scene, files: dict[int, str]) -> list[Note]:
    """Write over what of materials is another than in the stage.

    Parameters
    ----------
    editor : Editor
        Of the stage.
    scene, before : Scene
        As it is, and as the stage has it.
    files : dict
        The written pictures, by the index of the image: paths below the stage's folder.

    Returns
    -------
    list of Note
        What has no place in the stage.
    """
    from pxr import UsdShade

    known = {m.path: m for m in before.materials if m.path}
    added = []
    for m in scene.materials:
        was = known.get(m.path)
        prim = editor.prim(m.path) if was is not None and _differs(scene, m, before, was) else None
        material = UsdShade.Material(prim) if prim else None
        shader = material.ComputeSurfaceSource()[0] if material else None
        if was is None or not shader or str(shader.GetIdAttr().Get()) != "UsdPreviewSurface":
            continue
        for slot, inputs in INPUTS.items():
            old, new = token_of(before, getattr(was, slot)), token_of(scene, getattr(m, slot))
            if new == old:
                continue
            if getattr(m, slot) is None:
                _let_go(shader, inputs, m)
            elif not _point_at(
                editor, shader, inputs, files.get(image_of(scene, getattr(m, slot)), "")
            ):
                added.append(m.name)
        if m.emissive != was.emissive and m.emissive_texture is None:
            _let_go(shader, ("emissiveColor",), m)
    if not added:
        return []
    text = (
        f"Pictures that were made for {plural(len(added), 'material')} have no place in the stage."
    )
    return [Note("picture_added", "lost", text)]


def _differs(scene: Scene, m: Material, before: Scene, was: Material) -> bool:
    """Whether anything of a material is to be written."""
    return m.emissive != was.emissive or any(
        token_of(before, getattr(was, slot)) != token_of(scene, getattr(m, slot)) for slot in INPUTS
    )


def pictures_named_anew(scene: Scene, before: Scene) -> set[int]:
    """The images that materials show where they showed others before."""
    known = {m.path: m for m in before.materials if m.path}
    return {
        image_of(scene, use)
        for m in scene.materials
        if (was := known.get(m.path)) is not None
        for slot in INPUTS
        if (use := getattr(m, slot)) is not None
        and token_of(before, getattr(was, slot)) != token_of(scene, use)
    }


def image_of(scene: Scene, use: TextureUse) -> int:
    """The image that a texture shows."""
    return scene.textures[use.texture].image


def token_of(scene: Scene, use: TextureUse | None) -> str:
    """By which a slot's picture is told from another: its token, or its name where it has none.

    In the stage as it was kept, tokens stand where names of files stood; tiles of a set are one.
    """
    if use is None:
        return ""
    image = scene.images[image_of(scene, use)]
    token = image.name if image.name.startswith(TOKEN) else image.path
    return token.split(".")[0] or f"new {image.name}"


def _value_of(name: str, m: Material) -> Any:
    values = {
        "diffuseColor": m.base_color[:3],
        "emissiveColor": m.emissive,
        "roughness": m.roughness,
        "metallic": m.metallic,
    }
    return values.get(name)


def _let_go(shader: Any, inputs: tuple[str, ...], m: Material) -> None:
    """Take the pictures off some inputs, and set them to the material's own values."""
    from pxr import Sdf

    kinds = {
        "diffuseColor": Sdf.ValueTypeNames.Color3f,
        "emissiveColor": Sdf.ValueTypeNames.Color3f,
    }
    for name in inputs:
        socket = shader.GetInput(name)
        if socket:
            socket.DisconnectSource()  # said, not only unsaid: it may stand in a layer below
        value = _value_of(name, m)
        if value is not None:
            shader.CreateInput(name, kinds.get(name, Sdf.ValueTypeNames.Float)).Set(value)


def _point_at(editor: Editor, shader: Any, inputs: tuple[str, ...], file: str) -> bool:
    """Let the texture behind some inputs show another file; False where there is none."""
    from pxr import UsdShade

    done = False
    for name in inputs:
        socket = shader.GetInput(name)
        sources = socket.GetConnectedSources()[0] if socket else []
        for source in sources:
            texture = UsdShade.Shader(source.source.GetPrim())
            if texture and texture.GetInput("file"):
                texture.GetInput("file").Set(editor.asset(texture.GetPrim(), file))
                done = True
    return done
