"""Leaving out the pictures of a scene that nothing wears."""

from __future__ import annotations

from dataclasses import replace

from mill_lane.core.scene.model import Material, Scene, TextureUse

SLOTS = tuple(name for name in Material.__dataclass_fields__ if name.endswith("_texture"))


def without_unused(scene: Scene) -> Scene:
    """The scene with only the textures that a material uses, and only their pictures."""
    used = sorted({use.texture for m in scene.materials for _, use in m.uses()})
    shown = sorted({scene.textures[t].image for t in used})
    if len(used) == len(scene.textures) and len(shown) == len(scene.images):
        return scene
    texture = {old: new for new, old in enumerate(used)}
    image = {old: new for new, old in enumerate(shown)}

    def moved(m: Material) -> Material:
        changes: dict[str, TextureUse] = {}
        for slot in SLOTS:
            use = getattr(m, slot)
            if use is not None:
                changes[slot] = replace(use, texture=texture[use.texture])
        return replace(m, **changes) if changes else m  # type: ignore[arg-type]

    return replace(
        scene,
        materials=tuple(moved(m) for m in scene.materials),
        textures=tuple(
            replace(scene.textures[t], image=image[scene.textures[t].image]) for t in used
        ),
        images=tuple(scene.images[i] for i in shown),
    )
