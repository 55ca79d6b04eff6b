"""Names for the places of the scratch of paths: a batch that a thread follows stage by stage.

Float64, `Q_`.  Eight paths stand side by side in a group: the numbers that they have for a place
lie next to each other, so that they are read and written at once; `q` points to a path's own, whose
places are SIDE apart, and `p` to the first of a group.  Behind a group's fixed part stands what
depends on the number of lights.  Behind all groups stands what a thread has once (`T_`).
"""

from __future__ import annotations

SIDE = 8  # paths side by side
GROUPS = 8  # of them in a batch

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
    Q_THIN,  # whether the surface is a thin wall
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
) = range(0, 100 * SIDE, SIDE)
# A lamp that was picked: direction, distance, light, density, number, and whether it has no size.
Q_LX = Q_LOBES + 16 * SIDE
(Q_LY, Q_LZ, Q_LDIST, Q_LR, Q_LG, Q_LB, Q_LCHANCE, Q_LNUMBER, Q_LDELTA) = range(
    Q_LX + SIDE, Q_LX + 10 * SIDE, SIDE
)
Q_VR, Q_VG, Q_VB = range(Q_LX + 10 * SIDE, Q_LX + 13 * SIDE, SIDE)  # what of it arrives
# How many rays each of four lobes has, or how likely it is, at the event and at the first of all.
Q_RAYS, Q_SPLIT = Q_LX + 13 * SIDE, Q_LX + 17 * SIDE
# The path's way while lamps are looked at, and at the first event; how wide the ray is, metres.
(Q_WAY_X, Q_WAY_Y, Q_WAY_Z, Q_FIRST_X, Q_FIRST_Y, Q_FIRST_Z, Q_CONE) = range(
    Q_LX + 21 * SIDE, Q_LX + 28 * SIDE, SIDE
)
# What goes straight on through the event's surface, by colour.
(Q_STRAIGHT_R, Q_STRAIGHT_G, Q_STRAIGHT_B) = range(Q_LX + 28 * SIDE, Q_LX + 31 * SIDE, SIDE)
# The triangle that was hit: its edges in the world, whether its placement mirrors (-1), twice its
# area on the two layouts and on the one of its normal map, how V rises there along its edges.
(Q_EDGE_X, Q_EDGE_Y, Q_EDGE_Z, Q_OTHER_X, Q_OTHER_Y, Q_OTHER_Z, Q_HAND) = range(
    Q_LX + 31 * SIDE, Q_LX + 38 * SIDE, SIDE
)
(Q_LAID, Q_LAID_SECOND, Q_LAID_NORMAL, Q_RISE, Q_OTHER_RISE) = range(
    Q_LX + 38 * SIDE, Q_LX + 43 * SIDE, SIDE
)
Q_CORNER = Q_LX + 43 * SIDE  # the numbers of its three corners
Q_OUT = Q_LX + 46 * SIDE  # the sample's light by component, 3 each
# What the sample met first, for the layers that guide: 3 numbers each of albedo, normal and
# position.
Q_FEATURES = Q_OUT + 3 * len(COMPONENTS) * SIDE
(Q_ALBEDO, Q_ALBEDO_G, Q_ALBEDO_B, Q_NORMAL, Q_NORMAL_Y, Q_NORMAL_Z, Q_DISTANCE) = range(
    Q_FEATURES, Q_FEATURES + 7 * SIDE, SIDE
)
# Transparent layers before it; where it is; index of the scene's instance, and of the world's;
# GGX's alpha, and how much of a metal it is.
(Q_PASSED, Q_POSITION, Q_POSITION_Y, Q_POSITION_Z, Q_OBJECT, Q_MET, Q_MET_ALPHA, Q_MET_METAL) = (
    range(Q_DISTANCE + SIDE, Q_DISTANCE + 9 * SIDE, SIDE)
)
# How much the first surface of all hides; 1 once there is anything.
Q_OPACITY, Q_RECORDED = Q_MET_METAL + SIDE, Q_MET_METAL + 2 * SIDE
FEATURES = Q_RECORDED + SIDE - Q_FEATURES
# Counters of the path: texture reads, shading evaluations.
Q_TOUCHES, Q_SHADES = Q_FEATURES + FEATURES, Q_FEATURES + FEATURES + SIDE
Q_LOST = Q_SHADES + SIDE  # luminance taken away by clamping and by leaving caustics out
# Nodes, leaves, reads, shadings of the sample.
Q_WORK, Q_WORK_LEAVES, Q_WORK_READS, Q_WORK_SHADES = range(Q_LOST + SIDE, Q_LOST + 5 * SIDE, SIDE)
Q_SAVED = Q_WORK + 4 * SIDE  # the state at the first event, for rays that start there again
SAVED = Q_LOBES - Q_TR
# The sample's pixel of the film, and of the whole picture; its number there, and whether it is the
# second of two.
(Q_PIXEL, Q_X, Q_Y, Q_FIRST_INDEX, Q_SECOND) = range(
    Q_SAVED + SAVED, Q_SAVED + SAVED + 5 * SIDE, SIDE
)
Q_ASIDE = Q_SECOND + SIDE  # the event while a shadow ray looks at panes
ASIDE = Q_AX - Q_EVENT
# An event's random numbers: five pairs.
Q_DRAWN = Q_ASIDE + ASIDE
DRAWN = 6
# Which paths of a group are where, as bits of int64 (`M_`); and where the thread's own numbers
# are, an address.
Q_MASKS = Q_DRAWN + 2 * DRAWN * SIDE
(M_GOING, M_HITS, M_SURFACES, M_PARTICLES, M_SEEING, M_LIT, M_FIRST, M_FIRST_FOG) = range(SIDE)
Q_THREAD = Q_MASKS + SIDE
# For L lamps: the sample's luminance by lamp, L; its light by lamp, 3 L; its luminance by bounce;
# then the weights of the lamps at a point, of one path after the other.
Q_PER_LAMP = Q_THREAD + SIDE
LAMPS_AT_ONCE = 8
DEPTHS = 8  # bounces told apart in profiles; deeper ones count with the last
# What a thread has once: world-to-object of a moving instance, 12, and its object-to-world, 12; two
# stacks of the traversal (uint64), and eight lanes; the luminance of a sample, and for L lamps by
# lamp and by bounce; then sums over pairs of samples.
STACK = 512
T_MATRIX, T_STACK = 0, 24
T_LANES = T_STACK + 2 * STACK
T_SAMPLE = T_LANES + 16
THREAD = T_SAMPLE + 1


def path_size(lamps: int) -> int:
    """Numbers of the scratch of a batch of paths."""
    return GROUPS * group_size(lamps) + THREAD + lamps + DEPTHS + pair_sums(lamps)


def group_size(lamps: int) -> int:
    """Numbers of the scratch of a group."""
    weights = (lamps + LAMPS_AT_ONCE - 1) // LAMPS_AT_ONCE * (1 + LAMPS_AT_ONCE // 2)
    return Q_PER_LAMP + (4 * lamps + DEPTHS + weights) * SIDE


def weights_place(lamps: int) -> int:
    """Where the weights of the lamps begin, of one path after the other."""
    return Q_PER_LAMP + (4 * lamps + DEPTHS) * SIDE


def weights_size(lamps: int) -> int:
    """Numbers of a path's weights of the lamps: the sum of each eight, and themselves, float32."""
    return (lamps + LAMPS_AT_ONCE - 1) // LAMPS_AT_ONCE * (1 + LAMPS_AT_ONCE // 2)


def pairs_place(lamps: int) -> int:
    """Where the sums over pairs of samples begin."""
    return GROUPS * group_size(lamps) + THREAD + lamps + DEPTHS


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
