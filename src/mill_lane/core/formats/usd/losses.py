"""What plain USD materials and lights have no words for."""

from __future__ import annotations

from mill_lane.core.scene.model import Note, Scene


def lost_in_usd(scene: Scene) -> list[Note]:
    """What a scene that did not come from USD loses when it is written as USD."""
    materials, sky = scene.materials, scene.environment
    parts = [p for m in scene.meshes for p in m.parts]
    kinds = [
        ("fog", bool(scene.media)),
        ("the sky", sky is not None and not sky.added),
        ("glass that lets light through", any(m.transmission > 0 for m in materials)),
        ("what is unlit", any(m.unlit for m in materials)),
        ("sheen", any(max(m.sheen_color) > 0 for m in materials)),
        ("tinted reflections", any(m.specular_color != (1.0, 1.0, 1.0) for m in materials)),
        ("the grain of brushed metal", any(m.anisotropy > 0 for m in materials)),
        ("a second set of UVs", any(p.has_second_uvs for p in parts)),
        ("the movement of skins and morph targets", any(p.load_at for p in parts)),
    ]
    missing = [name for name, there in kinds if there]
    if not missing:
        return []
    text = f"USD's plain materials and lights cannot hold {', '.join(missing)}."
    return [Note("not_in_format", "lost", text)]
