"""How a surface scatters light: a diffuse base under a GGX interface under a GGX clear coat.

The lobes share their energy: what the interface reflects (single and multiple scattering) is
taken from what is below it, from tables of its directional albedo.  A white surface in a white
furnace is white, whatever its roughness.

All directions are in the frame of the shading normal (z up), pointing away from the surface.

References
----------
Walter et al., "Microfacet Models for Refraction through Rough Surfaces", EGSR 2007.
Dupuy and Benyoub, "Sampling Visible GGX Normals with Spherical Caps", 2023.
Kelemen and Szirmay-Kalos, "A Microfacet Based Coupled Specular-Matte BRDF Model", 2001.
Turquin, "Practical multiple scattering compensation for microfacet models", 2019.
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.tracer.memory import float64s
from grandlattice.tracer.sampling import cosine_direction
from grandlattice.tracer.vectors import dot, largest, normalized, triple

# mypy: disable-error-code="no-untyped-def"

_ALPHAS, _COSINES = 32, 32
_COAT_F0 = 0.04  # UsdPreviewSurface: the coat is of ior 1.5


@lru_cache(maxsize=1)
def albedo_tables() -> NDArray[np.float64]:
    """Directional albedo of the GGX interface, split over Schlick's two terms.

    Returns
    -------
    (6, 32, 32) float64 over (√alpha, √cosine), both 0..1.  ``[0]`` and ``[1]`` are A and B of
    single scattering, E = F0·A + F90·B.  ``[2:]`` are means over the hemisphere, weighted by the
    cosine and constant along the last axis, of A, B, A·C and B·C with C = 1/(A + B) − 1, from
    which the mean of E with multiple scattering follows for any F0.
    """
    root_alpha = np.linspace(0.0, 1.0, _ALPHAS)
    root_cosine = np.linspace(0.0, 1.0, _COSINES)
    side = 64
    u, v = np.meshgrid((np.arange(side) + 0.5) / side, (np.arange(side) + 0.5) / side)
    alpha = np.maximum(root_alpha**2, 4e-4)[:, None, None]
    cosine = np.maximum(root_cosine**2, 1e-3)[None, :, None]
    sine = np.sqrt(1.0 - cosine**2)
    # Sample visible normals, then average F-less G2/G1 with Schlick's weights.
    stretched = np.stack(np.broadcast_arrays(alpha * sine, 0.0 * sine, cosine), axis=-1)
    stretched /= np.linalg.norm(stretched, axis=-1, keepdims=True)
    phi = 2 * np.pi * u.ravel()
    height = (1.0 - v.ravel()) * (1.0 + stretched[..., 2]) - stretched[..., 2]
    ring = np.sqrt(np.clip(1.0 - height**2, 0.0, 1.0))
    hx, hy = ring * np.cos(phi) + stretched[..., 0], ring * np.sin(phi)
    hz = height + stretched[..., 2]
    hx, hy, hz = alpha * hx, alpha * hy, np.maximum(hz, 0.0)
    length = np.sqrt(hx**2 + hy**2 + hz**2)
    hx, hz = hx / length, hz / length
    out_dot_half = np.clip(sine * hx + cosine * hz, 0.0, 1.0)
    in_cosine = 2.0 * out_dot_half * hz - cosine
    up = in_cosine > 0.0
    a2 = alpha**2
    g_in = np.sqrt(a2 + (1.0 - a2) * in_cosine**2)
    g_out = np.sqrt(a2 + (1.0 - a2) * cosine**2)
    in_cosine = np.where(up, in_cosine, 1.0)
    ratio = in_cosine * (cosine + g_out) / (in_cosine * g_out + cosine * np.where(up, g_in, 1.0))
    ratio = np.where(up, ratio, 0.0)
    schlick = (1.0 - out_dot_half) ** 5
    a, b = (ratio * (1.0 - schlick)).mean(-1), (ratio * schlick).mean(-1)
    tables = np.zeros((6, _ALPHAS, _COSINES))
    tables[0], tables[1] = a, b
    # Mean over the hemisphere, 2 ∫ E μ dμ, with μ = x² so that it runs over the table's own axis.
    fine = np.linspace(0.0, 1.0, 1025)
    weight = 4.0 * fine**3
    for row in range(_ALPHAS):
        a_fine, b_fine = (np.interp(fine, root_cosine, table[row]) for table in (a, b))
        c_fine = 1.0 / np.maximum(a_fine + b_fine, 1e-3) - 1.0
        for k, term in enumerate((a_fine, b_fine, a_fine * c_fine, b_fine * c_fine)):
            tables[2 + k, row] = np.trapezoid(term * weight, fine)
    return tables


@njit(error_model="numpy")
def _look_up(tables, alpha, cosine):
    """A and B at (alpha, cosine), bilinear in the square roots."""
    table = float64s(tables)
    x = math.sqrt(min(max(cosine, 0.0), 1.0)) * (_COSINES - 1)
    y = math.sqrt(min(max(alpha, 0.0), 1.0)) * (_ALPHAS - 1)
    i, j = min(int(x), _COSINES - 2), min(int(y), _ALPHAS - 2)
    s, t = x - i, y - j
    w00, w10, w01, w11 = (1 - s) * (1 - t), s * (1 - t), (1 - s) * t, s * t
    k = j * _COSINES + i
    below, second = k + _COSINES, _ALPHAS * _COSINES
    a = w00 * table[k] + w10 * table[k + 1] + w01 * table[below] + w11 * table[below + 1]
    k, below = k + second, below + second
    b = w00 * table[k] + w10 * table[k + 1] + w01 * table[below] + w11 * table[below + 1]
    return a, b


@njit(error_model="numpy")
def _boost(f0, a, b):
    """Turquin's factor that gives back the energy of multiple scattering."""
    return 1.0 + f0 * (1.0 / max(a + b, 1e-3) - 1.0)


@njit(error_model="numpy")
def _interface_share(surface, tables, cosine):
    """Directional albedo of the interface alone, its brightest channel."""
    a, b = _look_up(tables, surface.alpha, cosine)
    f0 = largest(triple(surface.f0, 0))
    return min((f0 * a + surface.f90 * b) * _boost(f0, a, b), 1.0)


@njit(error_model="numpy")
def _interface_mean(surface, tables):
    """Mean of `_interface_share` over the hemisphere, weighted by the cosine."""
    y = math.sqrt(min(max(surface.alpha, 0.0), 1.0)) * (_ALPHAS - 1)
    j = min(int(y), _ALPHAS - 2)
    t = y - j
    f0, f90 = largest(triple(surface.f0, 0)), surface.f90
    table, size = float64s(tables), _ALPHAS * _COSINES
    k = 2 * size + j * _COSINES
    lower = f0 * table[k] + f90 * table[k + size]
    lower += f0 * (f0 * table[k + 2 * size] + f90 * table[k + 3 * size])
    k += _COSINES
    upper = f0 * table[k] + f90 * table[k + size]
    upper += f0 * (f0 * table[k + 2 * size] + f90 * table[k + 3 * size])
    return lower * (1.0 - t) + upper * t


@njit(error_model="numpy")
def _coat_share(surface, tables, cosine):
    if surface.coat == 0.0:
        return 0.0
    a, b = _look_up(tables, surface.coat_alpha, cosine)
    return surface.coat * (_COAT_F0 * a + b) * _boost(_COAT_F0, a, b)


@njit(error_model="numpy")
def reflected_share(surface, tables, cosine):
    """Share of light from `cosine` that coat and interface reflect, brightest channel."""
    interface = _interface_share(surface, tables, cosine)
    coat = _coat_share(surface, tables, cosine)
    return min(coat + (1.0 - coat) * interface, 1.0)


@njit(error_model="numpy")
def reflectance(surface, tables, cosine):
    """Directional albedo of the whole surface, each channel: the `albedo` pass."""
    coat = _coat_share(surface, tables, cosine)
    a, b = _look_up(tables, surface.alpha, cosine)
    below = 1.0 - _interface_share(surface, tables, cosine)
    f, d = triple(surface.f0, 0), triple(surface.diffuse, 0)
    return (
        min(coat + (1 - coat) * ((f[0] * a + surface.f90 * b) * _boost(f[0], a, b) + below * d[0]), 1.0),
        min(coat + (1 - coat) * ((f[1] * a + surface.f90 * b) * _boost(f[1], a, b) + below * d[1]), 1.0),
        min(coat + (1 - coat) * ((f[2] * a + surface.f90 * b) * _boost(f[2], a, b) + below * d[2]), 1.0),
    )  # fmt: skip


@njit(error_model="numpy")
def prepare_lobes(surface, tables, cosine):
    """Work out what depends on the outgoing direction alone, once for every vertex.

    Writes the lobe fields of `surface`; the chances are all 0 where nothing scatters.
    """
    coat = _coat_share(surface, tables, cosine)
    surface.coat_boost = 1.0
    if coat > 0.0:
        a, b = _look_up(tables, surface.coat_alpha, cosine)
        surface.coat_boost = _boost(_COAT_F0, a, b)
    a, b = _look_up(tables, surface.alpha, cosine)
    f = triple(surface.f0, 0)
    f0 = largest(f)
    share = min((f0 * a + surface.f90 * b) * _boost(f0, a, b), 1.0)
    for k in range(3):
        surface.boost[k] = _boost(f[k], a, b)
    interface = (1.0 - coat) * share
    base = (1.0 - coat) * (1.0 - share) * largest(triple(surface.diffuse, 0))
    surface.base_out = 0.0
    if base > 0.0:
        surface.base_out = (1.0 - share) / max(1.0 - _interface_mean(surface, tables), 1e-3)
    total = coat + interface + base
    to_one = 1.0 / total if total > 0.0 else 0.0
    surface.chance_coat, surface.chance_interface = coat * to_one, interface * to_one
    surface.chance_base, surface.under_coat = base * to_one, 1.0 - coat


@njit(error_model="numpy")
def _density_ggx(alpha, half_z):
    a2 = alpha * alpha
    d = half_z * half_z * (a2 - 1.0) + 1.0
    return a2 / (math.pi * d * d)


@njit(error_model="numpy")
def _visible_density(alpha, wo, half):
    """Density of a direction reflected off a visible normal."""
    g1 = 2.0 * wo[2] / (wo[2] + math.sqrt(alpha * alpha + (1.0 - alpha * alpha) * wo[2] * wo[2]))
    return g1 * _density_ggx(alpha, half[2]) / (4.0 * wo[2])


@njit(error_model="numpy")
def _ggx(alpha, wo, wi, half):
    """D·G2 / (4 cos_o), that is, the lobe times cos_i without Fresnel."""
    a2 = alpha * alpha
    g_out = math.sqrt(a2 + (1.0 - a2) * wo[2] * wo[2])
    g_in = math.sqrt(a2 + (1.0 - a2) * wi[2] * wi[2])
    visibility = 2.0 * wi[2] / (wi[2] * g_out + wo[2] * g_in)
    return _density_ggx(alpha, half[2]) * visibility / 4.0


@njit(error_model="numpy")
def scatter(surface, tables, wo, wi):
    """The scattering function times cos_i, as (r, g, b), and the density of sampling `wi`."""
    if wo[2] <= 0.0 or wi[2] <= 0.0:
        return (0.0, 0.0, 0.0), 0.0
    half = normalized((wo[0] + wi[0], wo[1] + wi[1], wo[2] + wi[2]))
    schlick = (1.0 - max(dot(wo, half), 0.0)) ** 5
    density, coat_value = 0.0, 0.0
    if surface.coat > 0.0:
        fresnel = (_COAT_F0 + (1.0 - _COAT_F0) * schlick) * surface.coat_boost
        coat_value = surface.coat * fresnel * _ggx(surface.coat_alpha, wo, wi, half)
        density += surface.chance_coat * _visible_density(surface.coat_alpha, wo, half)
    f, f90, lobe = triple(surface.f0, 0), surface.f90, 0.0
    if f90 > 0.0:
        lobe = surface.under_coat * _ggx(surface.alpha, wo, wi, half)
        density += surface.chance_interface * _visible_density(surface.alpha, wo, half)
    base = 0.0
    if surface.chance_base > 0.0:
        base = surface.base_out * (1.0 - _interface_share(surface, tables, wi[2]))
        base *= surface.under_coat * wi[2] / math.pi
        density += surface.chance_base * wi[2] / math.pi
    d, boost = triple(surface.diffuse, 0), triple(surface.boost, 0)
    return (
        coat_value + lobe * (f[0] + (f90 - f[0]) * schlick) * boost[0] + base * d[0],
        coat_value + lobe * (f[1] + (f90 - f[1]) * schlick) * boost[1] + base * d[1],
        coat_value + lobe * (f[2] + (f90 - f[2]) * schlick) * boost[2] + base * d[2],
    ), density


@njit(error_model="numpy")
def _reflect_off_visible_normal(alpha, wo, u, v):
    stretched = normalized((wo[0] * alpha, wo[1] * alpha, wo[2]))
    phi = 2.0 * math.pi * u
    z = (1.0 - v) * (1.0 + stretched[2]) - stretched[2]
    ring = math.sqrt(min(max(1.0 - z * z, 0.0), 1.0))
    cap = (ring * math.cos(phi), ring * math.sin(phi), z)
    half = normalized((
        (cap[0] + stretched[0]) * alpha, (cap[1] + stretched[1]) * alpha,
        max(cap[2] + stretched[2], 1e-9),
    ))  # fmt: skip
    twice = 2.0 * dot(wo, half)
    return (half[0] * twice - wo[0], half[1] * twice - wo[1], half[2] * twice - wo[2])


@njit(error_model="numpy")
def sample_direction(surface, wo, choice, u, v):
    """A direction drawn from the lobes; `choice`, `u` and `v` are uniform in [0, 1)."""
    if choice < surface.chance_coat:
        return _reflect_off_visible_normal(surface.coat_alpha, wo, u, v)
    if choice < surface.chance_coat + surface.chance_interface:
        return _reflect_off_visible_normal(surface.alpha, wo, u, v)
    return cosine_direction(u, v)
