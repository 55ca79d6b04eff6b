"""Names for places: where kernels find what, in the few flat tables that they are handed.

World table (int64, `W_`): addresses and counts.  Settings (float64, `S_`).  Film table (int64,
`F_`): addresses of planes, 0 for one that is not kept.  Paths (float64, `Q_`): the state of those
that a thread follows.  Counters (int64, `C_`): work done.  `world.py`, `film.py` and
`session.py` fill them.
"""

from __future__ import annotations

from mill_lane.core.render.path_slots import *

# --- World ---
(
    W_TOP,
    W_TOP_COUNT,
    W_NODES,
    W_LEAVES,
    W_TO_OBJECT,
    W_TO_WORLD,
    W_INSTANCES,
    W_NORMALS,
    W_UVS,
    W_TRIANGLES,
    W_FACTORS,
    W_SLOTS,
    W_UV_TRANSFORMS,
    W_TEXTURES,
    W_LEVELS,
    W_NARROW,
    W_WIDE,
    W_DECODE,
    W_LAMPS,
    W_LAMP_COUNT,
    W_LAMP_RUNNING,
    W_LAMP_AREAS,
    W_LAMP_SLOTS,
    W_SKY_LAMP,
    W_SKY,
    W_SKY_ROWS,
    W_SKY_COLUMNS,
    W_SKY_PIXELS,
    W_SKY_WIDTH,
    W_SKY_HEIGHT,
    W_MEDIA,
    W_MEDIA_COUNT,
    W_MOVES,
    W_NEXT,
    W_SEE_THROUGH,
    W_INSTANCE_COUNT,
    W_SUN_LAMP,
    W_MATERIAL_COUNT,
    W_SIZES,
    W_COLORS,
    W_SHEEN,
    W_PATCHES,
    W_PATCH_RANGES,
    W_BOUNDS,
    W_SHINING,
    W_SHINING_COUNT,
    W_CENTRE,
    W_TOP_PANES,
    W_PANES,
    W_SKY_BANDS,
) = range(50)
WORLD_SLOTS = 50

# Columns of `instances` (int64): where an instance's mesh begins, and what it wears.
(
    P_NODE,
    P_LEAF,
    P_TRIANGLE,
    P_VERTEX,
    P_UV,
    P_UV_SECOND,
    P_COLOR,
    P_MATERIAL,
    P_LAMP,
    P_FLAGS,
    P_MOVE,
    P_NEXT,
    P_OBJECT,
) = range(13)
INSTANCE_COLUMNS = 13
# Flags of a place.  PLAIN: it stands in the world as in its own space.  The last five are of rays
# that do not see it.
SEE_THROUGH, HIDDEN, PLAIN = 1, 2, 4
NO_CAMERA, NO_REFLECTION, NO_TRANSMISSION, NO_SHADOW, NO_INDIRECT = 8, 16, 32, 64, 128
HELD_OUT = 256  # it belongs to another part of the scene: what the camera sees of it is left out
UNSEEN = NO_CAMERA | NO_REFLECTION | NO_TRANSMISSION | NO_SHADOW | NO_INDIRECT
RAY_FLAGS = {
    "camera": NO_CAMERA,
    "reflection": NO_REFLECTION,
    "transmission": NO_TRANSMISSION,
    "shadow": NO_SHADOW,
    "indirect": NO_INDIRECT,
}

# Columns of `factors` (float64): a material.
(
    M_RED,
    M_GREEN,
    M_BLUE,
    M_ALPHA,
    M_METALLIC,
    M_ROUGH,
    M_EMIT_R,
    M_EMIT_G,
    M_EMIT_B,
    M_IOR,
    M_TRANSMIT,
    M_THICK,
    M_ABSORB_R,
    M_ABSORB_G,
    M_ABSORB_B,
    M_MODE,
    M_CUTOFF,
    M_TWO_SIDED,
    M_UNLIT,
    M_NORMAL_SCALE,
    M_COAT,
    M_COAT_ROUGH,
    M_TEXTURED,
    M_SPECULAR,
    M_SPECULAR_R,
    M_SPECULAR_G,
    M_SPECULAR_B,
    M_SHEEN_R,
    M_SHEEN_G,
    M_SHEEN_B,
    M_SHEEN_ROUGH,
    M_ANISOTROPY,
    M_ANISOTROPY_TURN,
    M_LAYERED,
) = range(34)
FACTORS = 34
OPAQUE, MASK, BLEND = 0, 1, 2

# Texture slots of a material.
(
    BASE,
    ROUGH,
    NORMAL,
    EMISSION,
    TRANSMISSION,
    COAT,
    COAT_ROUGH,
    SPECULAR_SHARE,
    SPECULAR_TINT,
    SHEEN_TINT,
    SHEEN_ROUGH,
    ANISOTROPY,
) = range(12)
TEXTURE_SLOTS = 12
# Numbers of a texture's use (float64): the rows of its UV transform, the mip level at which a texel
# of it is one unit of UV wide, and which of the two UV sets it lies on.
U_LEVEL, U_SET = 6, 7
USE_COLUMNS = 8

# Columns of the texture table (int64): `levels` is the first row of its mip levels in the table of
# offsets.
(T_WIDE, T_FIRST_LEVEL, T_WIDTH, T_HEIGHT, T_CHANNELS, T_WRAP_U, T_WRAP_V, T_LEVELS) = range(8)

# Columns of a lamp (float64).
(
    L_KIND,
    L_X,
    L_Y,
    L_Z,
    L_DX,
    L_DY,
    L_DZ,
    L_RADIUS,
    L_RED,
    L_GREEN,
    L_BLUE,
    L_LUMA,
    L_RANGE,
    L_INNER,
    L_OUTER,
    L_FIRST,
    L_COUNT,
    L_INSTANCE,
    L_AREA,
    L_TWO_SIDED,
    L_CHANCE,
    L_SCALE,
    L_PATCHED,
    L_UNSEEN,
) = range(24)
LAMP_COLUMNS = 24
POINT, SPOT, SUN, MESH, SKY = range(5)

# Columns of `media` (float64).
# Three each of the least and the most corner, then:
D_SCATTER, D_EXTINCTION, D_G = 6, 7, 8
MEDIUM_COLUMNS = 9

# --- Settings ---
(
    S_WIDTH,
    S_HEIGHT,
    S_X0,
    S_Y0,
    S_REGION_W,
    S_REGION_H,
    S_SEED,
    S_BLOCK,
    S_BOUNCES,
    S_DIFFUSE,
    S_SPECULAR,
    S_TRANSMISSION,
    S_VOLUME,
    S_LAYERS,
    S_DIRECT_CLAMP,
    S_CLAMP_BOUNCED,
    S_CAUSTICS,
    S_EARLY_END,
    S_SPLIT,
    S_SPLIT_DIFFUSE,
    S_SPLIT_SPECULAR,
    S_SPLIT_TRANSMISSION,
    S_SPLIT_VOLUME,
    S_SPLIT_LIGHTS,
    S_CHOICE,
    S_LIGHT_THRESHOLD,
    S_SKY_VISIBLE,
    S_PROFILE,
    S_VIEW,
    S_INDIRECT,
    S_SHADOWS,
    S_REFRACTION,
    S_FOG,
    S_OCCLUSION_REACH,
    S_SPREAD,
    S_LENS,
    S_FOCUS,
    S_SHUTTER,
    S_LIGHT_COUNT,
    S_AIM,
    S_ONLY,
    S_FLAT,
    S_PART,
    S_CAMERA_TRACK,
) = range(44)
# From S_CAMERA_TRACK on: position, forward, right, up of the camera at the keys of the shutter,
# then of the next frame.
CAMERA_KEYS = 9
SETTINGS = S_CAMERA_TRACK + 12 * (CAMERA_KEYS + 1)

# All of the scene, or a part of it: with the sky and the fog that the camera sees, or without.
WHOLE, PART_WITH_REST, PART_ALONE = 0, 1, 2
ONE_BY_POWER, ALL_LIGHTS, ONE_BY_ESTIMATE = 0, 1, 2
VIEW_LIGHT, VIEW_OCCLUSION, VIEW_WIRES = 0, 1, 2

# --- Film ---
(
    F_LIGHT,
    F_LUMA,
    F_SAMPLES,
    F_ACTIVE,
    F_ALBEDO,
    F_NORMAL,
    F_DEPTH,
    F_POSITION,
    F_MOTION,
    F_OBJECT,
    F_WORK,
    F_HALF,
    F_COMPONENTS,
    F_LIGHTS,
    F_LIGHT_SQUARES,
    F_ALBEDO_SQUARES,
    F_NORMAL_SQUARES,
    F_DEPTH_SQUARES,
    F_MATERIAL,
) = range(19)
FILM_SLOTS = 19

# --- Counters ---
RAYS = ("camera", "diffuse", "specular", "transmission", "volume", "transparent", "shadow")
R_CAMERA, R_DIFFUSE, R_GLOSSY, R_THROUGH, R_VOLUME, R_STRAIGHT, R_SHADOW = range(7)
WORK = ("rays", "nodes", "leaves", "reads", "shadings")
# By kind of ray and depth; by component of the light (the first is the camera's own part); by
# place; by material; by lamp.
C_KINDS = 0
C_COMPONENTS = C_KINDS + len(RAYS) * DEPTHS * 5
C_INSTANCES = C_COMPONENTS + len(COMPONENTS) * 5
INSTANCE_WORK = 4  # nodes, leaves, hits, reads
MATERIAL_WORK = 3  # hits, reads, shadings
LAMP_WORK = 4  # shadow rays, nodes, leaves, arrivals


def counters_size(instances: int, materials: int, lamps: int) -> int:
    """Numbers of a thread's counters."""
    return C_INSTANCES + instances * INSTANCE_WORK + materials * MATERIAL_WORK + lamps * LAMP_WORK
