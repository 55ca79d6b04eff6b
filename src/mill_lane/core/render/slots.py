"""Names for places: where kernels find what, in the few flat tables that they are handed.

World table (int64, `W_`): addresses and counts.  Settings (float64, `S_`).  Film table (int64,
`F_`): addresses of planes, 0 for one that is not kept.  Path (float64, `Q_`): the state of the one
path that a thread follows.  Counters (int64, `C_`): work done.  `world.py`, `film.py` and
`session.py` fill them.
"""

from __future__ import annotations

# --- World -------------------------------------------------------------------------------------------------------
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
) = range(39)
WORLD_SLOTS = 39

# Columns of `instances` (int64): where an instance's mesh begins, and what it wears.
(
    P_NODE,
    P_LEAF,
    P_TRIANGLE,
    P_VERTEX,
    P_UV,
    P_MATERIAL,
    P_LAMP,
    P_FLAGS,
    P_MOVE,
    P_NEXT,
    P_OBJECT,
) = range(11)
INSTANCE_COLUMNS = 11
SEE_THROUGH, HIDDEN, PLAIN = (
    1,
    2,
    4,
)  # flags of a place; PLAIN: it stands in the world as in its own space

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
) = range(23)
FACTORS = 23
OPAQUE, MASK, BLEND = 0, 1, 2

# Texture slots of a material.
BASE, ROUGH, NORMAL, EMISSION, TRANSMISSION, COAT, COAT_ROUGH = range(7)
TEXTURE_SLOTS = 7

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
) = range(22)
LAMP_COLUMNS = 22
POINT, SPOT, SUN, MESH, SKY = range(5)

# Columns of `media` (float64).
# Three each of the least and the most corner, then:
D_SCATTER, D_EXTINCTION, D_G = 6, 7, 8
MEDIUM_COLUMNS = 9

# --- Settings ----------------------------------------------------------------------------------------------------
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
    S_CAMERA_TRACK,
) = range(42)
# From S_CAMERA_TRACK on: position, forward, right, up of the camera at the keys of the shutter,
# then of the next frame.
CAMERA_KEYS = 9
SETTINGS = S_CAMERA_TRACK + 12 * (CAMERA_KEYS + 1)

ONE_BY_POWER, ALL_LIGHTS, ONE_BY_ESTIMATE = 0, 1, 2
VIEW_LIGHT, VIEW_OCCLUSION, VIEW_WIRES = 0, 1, 2

# --- Components of the light, in the order in which they are kept -----------------------------------------------
COMPONENTS = (
    "emission",
    "direct_diffuse",
    "direct_specular",
    "direct_transmission",
    "direct_volume",
    "indirect_diffuse",
    "indirect_specular",
    "indirect_transmission",
    "indirect_volume",
)
# Kinds of a scattering, 1 to 4; 0 is none yet.  Component of a path: (kind) for direct, (4 + kind)
# for indirect.
NONE, DIFFUSE, GLOSSY, THROUGH, VOLUME = range(5)

# --- Film --------------------------------------------------------------------------------------------------------
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
) = range(14)
FILM_SLOTS = 14

# --- Path --------------------------------------------------------------------------------------------------------
(
    # The ray, and what was found along it.
    Q_OX,
    Q_OY,
    Q_OZ,
    Q_DX,
    Q_DY,
    Q_DZ,
    Q_FAR,
    Q_T,
    Q_BU,
    Q_BV,
    Q_SLOT,
    Q_INSTANCE,
    Q_NODES,
    Q_LEAVES,
    # The path: throughput, density of the last scattering (below 0: nothing else could have found
    # its light), …
    Q_TR,
    Q_TG,
    Q_TB,
    Q_DENSITY,
    Q_DEPTH,
    Q_LAYERS,
    Q_TRAVELLED,
    Q_SINCE,
    Q_SPREAD,
    Q_ABSORB_R,
    Q_ABSORB_G,
    Q_ABSORB_B,
    Q_KIND,
    Q_COUNT_DIFFUSE,
    Q_COUNT_GLOSSY,
    Q_COUNT_THROUGH,
    Q_COUNT_VOLUME,
    Q_SOFT,
    Q_CAUSTIC,
    Q_SEED,
    Q_INDEX,
    Q_DIM,
    Q_TIME,
    Q_LAST_KIND,
    # The event: a surface or a particle of fog.
    Q_EVENT,
    Q_PX,
    Q_PY,
    Q_PZ,
    Q_GX,
    Q_GY,
    Q_GZ,
    Q_NX,
    Q_NY,
    Q_NZ,
    Q_FRONT,
    Q_MATERIAL,
    Q_U,
    Q_V,
    Q_LEVEL,
    Q_RAY_EPSILON,
    Q_BR,
    Q_BG,
    Q_BB,
    Q_COVER,
    Q_METAL,
    Q_ROUGHNESS,
    Q_CLEAR,
    Q_COAT,
    Q_COAT_ALPHA,
    Q_ETA,
    Q_MEDIUM,
    # Where lamps were looked for last, for the density of finding one by chance.
    Q_AX,
    Q_AY,
    Q_AZ,
    Q_AIM_NX,
    Q_AIM_NY,
    Q_AIM_NZ,
    Q_AIM_SUM,
    Q_AIM_SURFACE,
    Q_AIM_T,
    # What a lobe gave: red, green, blue and density of each of four.
    Q_LOBES,
) = range(75)
# A lamp that was picked: direction, distance, light, density, number, and whether it has no size.
Q_LX = Q_LOBES + 16
(Q_LY, Q_LZ, Q_LDIST, Q_LR, Q_LG, Q_LB, Q_LCHANCE, Q_LNUMBER, Q_LDELTA) = range(Q_LX + 1, Q_LX + 10)
Q_VR, Q_VG, Q_VB = range(Q_LX + 10, Q_LX + 13)  # what of it arrives
Q_OUT = Q_LX + 13  # the sample's light by component, 3 each
Q_FEATURES = Q_OUT + 3 * len(
    COMPONENTS
)  # albedo 3, normal 3, distance, layers, position 3, object, place, recorded
Q_MATRIX = Q_FEATURES + 16  # world-to-object of a moving instance, 12; then its object-to-world, 12
Q_TOUCHES = Q_MATRIX + 24  # counters of the path: texture reads, shading evaluations
Q_LOST = Q_TOUCHES + 2  # luminance taken away by clamping and by leaving caustics out
Q_WORK = Q_LOST + 2  # nodes, leaves, reads, shadings of the sample
Q_SAVED = Q_WORK + 4  # the state at the first event, for rays that start there again
Q_SAVED_COUNT = Q_LOBES - Q_TR
Q_SAMPLE = Q_SAVED + Q_SAVED_COUNT  # luminance of the sample, of its twin before it
Q_ASIDE = Q_SAMPLE + 4  # the event while a shadow ray looks at panes
Q_ASIDE_COUNT = Q_AX - Q_EVENT
PATH_FIXED = 320
# Behind that: two stacks of the traversal (uint64), eight lanes, then what depends on the number of
# lamps.
Q_STACK = PATH_FIXED
STACK = 512
Q_LANES = Q_STACK + 2 * STACK
# For L lamps: their weights at a point, L; the sample's luminance by lamp, L; its light by lamp, 3
# L; its luminance by bounce; then what the sample before it had, by lamp and by bounce; then sums
# over pairs of samples, three each.
Q_PER_LAMP = Q_LANES + 16
DEPTHS = 8  # bounces told apart in profiles; deeper ones count with the last


def path_size(lamps: int) -> int:
    """Numbers of a path's scratch."""
    return Q_PER_LAMP + 6 * lamps + 2 * DEPTHS + pair_sums(lamps) + 16


def pair_sums(lamps: int) -> int:
    """Numbers that a thread adds up over pairs of samples:

    of the whole, and for each lamp and bounce.

    Of the whole: pairs, sum, squared difference.  For each: sum, product of differences, squared
    difference.
    """
    return 3 + 3 * (lamps + DEPTHS)


# --- Counters ----------------------------------------------------------------------------------------------------
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
