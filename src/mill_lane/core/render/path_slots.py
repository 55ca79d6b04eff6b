"""Names for the places of a path's scratch: the state of the one path that a thread follows.

Float64, `Q_`.  Behind the fixed part stand the stacks of the traversal and what depends on the
number of lights.
"""

from __future__ import annotations

# Components of the light, in the order in which they are kept.
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

# --- Path ---
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
    Q_UNSEEN,  # flags of places that the ray goes through as if they were not there
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
    Q_U_SECOND,
    Q_V_SECOND,
    Q_LEVEL_SECOND,
    Q_TINT_R,
    Q_TINT_G,
    Q_TINT_B,
    Q_TINT_A,
    Q_TANGENT_X,
    Q_TANGENT_Y,
    Q_TANGENT_Z,
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
    # Only where the material has any of it: the specular share (below 0: plain dielectric) and
    # tint; sheen, its largest channel (0: none) and table; GGX's alpha along the tangent (0: as
    # across), and the tangent in the frame of the normal.
    Q_SPECULAR,
    Q_SPECULAR_R,
    Q_SPECULAR_G,
    Q_SPECULAR_B,
    Q_SHEEN_R,
    Q_SHEEN_G,
    Q_SHEEN_B,
    Q_SHEEN_MOST,
    Q_SHEEN_ALPHA,
    Q_SHEEN_TABLE,
    Q_ALONG,
    Q_TURN_COSINE,
    Q_TURN_SINE,
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
) = range(99)
# A lamp that was picked: direction, distance, light, density, number, and whether it has no size.
Q_LX = Q_LOBES + 16
(Q_LY, Q_LZ, Q_LDIST, Q_LR, Q_LG, Q_LB, Q_LCHANCE, Q_LNUMBER, Q_LDELTA) = range(Q_LX + 1, Q_LX + 10)
Q_VR, Q_VG, Q_VB = range(Q_LX + 10, Q_LX + 13)  # what of it arrives
Q_OUT = Q_LX + 13  # the sample's light by component, 3 each
# What the sample met first, for the layers that guide: 3 numbers each of albedo, normal and
# position.
Q_FEATURES = Q_OUT + 3 * len(COMPONENTS)
Q_ALBEDO = Q_FEATURES
Q_NORMAL = Q_ALBEDO + 3
Q_DISTANCE = Q_NORMAL + 3
Q_PASSED = Q_DISTANCE + 1  # transparent layers before it
Q_POSITION = Q_PASSED + 1
Q_OBJECT = Q_POSITION + 3  # index of the scene's instance
Q_MET = Q_OBJECT + 1  # index of the world's instance
Q_RECORDED = Q_MET + 1  # 1 once there is anything
FEATURES = 16
Q_MATRIX = (
    Q_FEATURES + FEATURES
)  # world-to-object of a moving instance, 12; then its object-to-world, 12
Q_TOUCHES = Q_MATRIX + 24  # counters of the path: texture reads, shading evaluations
Q_LOST = Q_TOUCHES + 2  # luminance taken away by clamping and by leaving caustics out
Q_WORK = Q_LOST + 2  # nodes, leaves, reads, shadings of the sample
Q_SAVED = Q_WORK + 4  # the state at the first event, for rays that start there again
Q_SAVED_COUNT = Q_LOBES - Q_TR
Q_SAMPLE = Q_SAVED + Q_SAVED_COUNT  # luminance of the sample, and of the one before it
Q_ASIDE = Q_SAMPLE + 4  # the event while a shadow ray looks at panes
Q_ASIDE_COUNT = Q_AX - Q_EVENT
Q_DRAWN = Q_ASIDE + Q_ASIDE_COUNT  # an event's random numbers: eight pairs of uint32
PATH_FIXED = 400
assert Q_RECORDED < Q_FEATURES + FEATURES
assert Q_DRAWN + 8 <= PATH_FIXED, "a path's fixed part does not fit its scratch"
# Behind that: two stacks of the traversal (uint64), eight lanes, then what depends on the number of
# lamps.
Q_STACK = PATH_FIXED
STACK = 512
Q_LANES = Q_STACK + 2 * STACK
# For L lamps: the sample's luminance by lamp, L; its light by lamp, 3 L; its luminance by bounce;
# then what the sample before it had, by lamp and by bounce; then sums over pairs of samples, three
# each; then the lamps' weights at a point, eight by eight: the sum of each eight, and themselves.
Q_PER_LAMP = Q_LANES + 16
LAMPS_AT_ONCE = 8
DEPTHS = 8  # bounces told apart in profiles; deeper ones count with the last


def path_size(lamps: int) -> int:
    """Numbers of a path's scratch."""
    return weights_place(lamps) + eights(lamps) * (1 + LAMPS_AT_ONCE // 2) + 16


def weights_place(lamps: int) -> int:
    """Where the weights of the lamps begin."""
    return Q_PER_LAMP + 5 * lamps + 2 * DEPTHS + 3 + 3 * (lamps + DEPTHS)


def eights(lamps: int) -> int:
    """How many groups of lamps are weighed at once."""
    return (lamps + LAMPS_AT_ONCE - 1) // LAMPS_AT_ONCE


def pair_sums(lamps: int) -> int:
    """Numbers that a thread adds up over pairs of samples:

    of the whole, and for each lamp and bounce.

    Of the whole: pairs, sum, squared difference.  For each: sum, product of differences, squared
    difference.
    """
    return 3 + 3 * (lamps + DEPTHS)
