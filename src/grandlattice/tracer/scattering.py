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
import os
from contextlib import suppress
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.once import once
from grandlattice.tracer.compiling.kernel_cache import kernel_folder
from grandlattice.tracer.kernel_memory import float32s, load_rows
from grandlattice.tracer.lanes import any_of, inner, to_floats, to_ints, where
from grandlattice.tracer.sampling import cosine_direction, sine_and_cosine
from grandlattice.tracer.vectors import choose, dot, largest, normalized

# mypy: disable-error-code="no-untyped-def"

_ALPHAS, _COSINES = 32, 32
_MEANS = 2 * _ALPHAS * _COSINES  # where they begin, see `work_out_albedo`
_ALBEDO_WORDS = _MEANS + 4 * _ALPHAS + 16
_COAT_F0 = 0.04  # UsdPreviewSurface: the coat is of ior 1.5


class Surface(NamedTuple):
    """Materials at points, a lane each, ready for scattering; colours are linear triples."""

    diffuse: Any
    f0: Any  # reflectance at normal incidence, a triple
    f90: Any  # and at grazing
    alpha: Any  # GGX width
    coat: Any
    coat_alpha: Any
    opacity: Any
    tint: Any  # colour of light that went through
    ior: Any
    presence: Any  # how much of the surface is there at all
    emission: Any
    bump: Any  # normal in the tangent frame


class Lobes(NamedTuple):
    """What of a surface depends on the outgoing direction alone."""

    chance_coat: Any
    chance_interface: Any
    chance_base: Any  # the three add to 1, or to 0 where nothing scatters
    under_coat: Any  # share that gets past the coat
    coat_boost: Any
    boost: Any
    base_out: Any  # share that gets past the interface, over its mean


@once
def albedo_tables() -> NDArray[np.float32]:
    """See `work_out_albedo`; worked out once for each machine and version, and kept."""
    file = kernel_folder() / "albedo.npy"
    with suppress(OSError, ValueError):
        kept = np.load(file)
        if kept.shape == (_ALBEDO_WORDS,) and kept.dtype == np.float32:
            return np.asarray(kept)
    tables = work_out_albedo()
    with suppress(OSError):  # a cache that cannot be written only costs time
        file.parent.mkdir(parents=True, exist_ok=True)
        half = file.with_name(f"albedo-{os.getpid()}.part.npy")
        np.save(half, tables)
        half.replace(file)
    return tables


def work_out_albedo() -> NDArray[np.float32]:
    """Directional albedo of the GGX interface, split over Schlick's two terms.

    Returns
    -------
    float32: (32, 32, 2) over (√alpha, √cosine), both 0..1, are A and B of single scattering,
    E = F0·A + F90·B.  (32, 4) over √alpha after them are means over the hemisphere, weighted by the
    cosine, of A, B, A·C and B·C with C = 1/(A + B) − 1, from which the mean of E with multiple
    scattering follows for any F0.  16 words behind them may be read.
    """
    root_alpha = np.linspace(0.0, 1.0, _ALPHAS)
    root_cosine = np.linspace(0.0, 1.0, _COSINES)
    count, step = 987, 610  # a lattice of Fibonacci: as good as a grid of many times its points
    u, v = (np.arange(count) + 0.5) / count, (np.arange(count) * step + 0.5) / count % 1.0
    alpha = np.maximum(root_alpha**2, 4e-4)[:, None, None]
    cosine = np.maximum(root_cosine**2, 1e-3)[None, :, None]
    sine = np.sqrt(1.0 - cosine**2)
    # Sample visible normals, then average F-less G2/G1 with Schlick's weights.
    stretched = np.stack(np.broadcast_arrays(alpha * sine, 0.0 * sine, cosine), axis=-1)
    stretched /= np.linalg.norm(stretched, axis=-1, keepdims=True)
    phi = 2 * np.pi * u
    height = (1.0 - v) * (1.0 + stretched[..., 2]) - stretched[..., 2]
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
    means = np.zeros((_ALPHAS, 4))
    # Mean over the hemisphere, 2 ∫ E μ dμ, with μ = x² so that it runs over the table's own axis.
    fine = np.linspace(0.0, 1.0, 1025)
    weight = 4.0 * fine**3
    for row in range(_ALPHAS):
        a_fine, b_fine = (np.interp(fine, root_cosine, table[row]) for table in (a, b))
        c_fine = 1.0 / np.maximum(a_fine + b_fine, 1e-3) - 1.0
        for k, term in enumerate((a_fine, b_fine, a_fine * c_fine, b_fine * c_fine)):
            means[row, k] = np.trapezoid(term * weight, fine)
    pairs = np.stack([a, b], axis=-1)
    return np.concatenate([pairs.ravel(), means.ravel(), np.zeros(16)]).astype(np.float32)


@inner
def _place(x, count):
    """Where the square root of `x` stands on an axis of a table: the step below, and past it."""
    position = math.sqrt(min(max(x, 0.0), 1.0)) * (count - 1)
    step = min(to_ints(position), count - 2)
    return step, position - to_floats(step)


@inner
def _look_up(tables, alpha, cosine):
    """A and B at (alpha, cosine), bilinear in the square roots."""
    i, s = _place(cosine, _COSINES)
    j, t = _place(alpha, _ALPHAS)
    w00, w10, w01, w11 = (1.0 - s) * (1.0 - t), s * (1.0 - t), (1.0 - s) * t, s * t
    k = 2 * (j * _COSINES + i)
    low, high = load_rows(float32s(tables), k), load_rows(float32s(tables), k + 2 * _COSINES)
    a = w00 * low[0] + w10 * low[2] + w01 * high[0] + w11 * high[2]
    b = w00 * low[1] + w10 * low[3] + w01 * high[1] + w11 * high[3]
    return a, b


@inner
def _boost(f0, a, b):
    """Turquin's factor that gives back the energy of multiple scattering."""
    return 1.0 + f0 * (1.0 / max(a + b, 1e-3) - 1.0)


@inner
def _share(f0, f90, a, b):
    """Directional albedo of an interface from its place in the tables."""
    return min((f0 * a + f90 * b) * _boost(f0, a, b), 1.0)


@inner
def _interface(surface, tables, cosine):
    """A and B of the interface; 0 where no lane has one."""
    a, b = 0.0 * cosine, 0.0 * cosine
    if any_of(surface.f90 > 0.0):
        a, b = _look_up(tables, surface.alpha, cosine)
    return a, b


@inner
def _interface_share(surface, tables, cosine):
    """Directional albedo of the interface alone, its brightest channel."""
    share = 0.0 * cosine
    if any_of(surface.f90 > 0.0):
        a, b = _look_up(tables, surface.alpha, cosine)
        share = _share(largest(surface.f0), surface.f90, a, b)
    return share


@inner
def _interface_mean(surface, tables):
    """Mean of `_interface_share` over the hemisphere, weighted by the cosine."""
    j, t = _place(surface.alpha, _ALPHAS)
    f0, f90 = largest(surface.f0), surface.f90
    mean = load_rows(float32s(tables), _MEANS + 4 * j)  # of this row and the next
    lower = f0 * mean[0] + f90 * mean[1] + f0 * (f0 * mean[2] + f90 * mean[3])
    upper = f0 * mean[4] + f90 * mean[5] + f0 * (f0 * mean[6] + f90 * mean[7])
    return lower * (1.0 - t) + upper * t


@inner
def _coat_share(surface, tables, cosine):
    """Directional albedo of the coat, and its boost."""
    share, boost = 0.0 * surface.coat, 0.0 * surface.coat + 1.0
    if any_of(surface.coat > 0.0):
        a, b = _look_up(tables, surface.coat_alpha, cosine)
        boost = _boost(_COAT_F0, a, b)
        share = surface.coat * (_COAT_F0 * a + b) * boost
    return share, boost


@inner
def reflected_share(surface, tables, cosine):
    """Share of light from `cosine` that coat and interface reflect, brightest channel."""
    interface = _interface_share(surface, tables, cosine)
    coat, _ = _coat_share(surface, tables, cosine)
    return min(coat + (1.0 - coat) * interface, 1.0)


@inner
def reflectance(surface, tables, cosine):
    """Directional albedo of the whole surface, each channel: the `albedo` pass."""
    coat, _ = _coat_share(surface, tables, cosine)
    a, b = _interface(surface, tables, cosine)
    f, d, f90 = surface.f0, surface.diffuse, surface.f90
    past, below = 1.0 - coat, 1.0 - _share(largest(f), f90, a, b)
    return (
        min(coat + past * ((f[0] * a + f90 * b) * _boost(f[0], a, b) + below * d[0]), 1.0),
        min(coat + past * ((f[1] * a + f90 * b) * _boost(f[1], a, b) + below * d[1]), 1.0),
        min(coat + past * ((f[2] * a + f90 * b) * _boost(f[2], a, b) + below * d[2]), 1.0),
    )


@inner
def lobes_of(surface, tables, cosine):
    """The lobes of a surface seen from `cosine`."""
    coat, coat_boost = _coat_share(surface, tables, cosine)
    f, share = surface.f0, 0.0 * cosine
    base_out, boost = share + 1.0, (share, share, share)
    if any_of(surface.f90 > 0.0):
        a, b = _look_up(tables, surface.alpha, cosine)
        share = _share(largest(f), surface.f90, a, b)
        base_out = (1.0 - share) / max(1.0 - _interface_mean(surface, tables), 1e-3)
        boost = _boost(f[0], a, b), _boost(f[1], a, b), _boost(f[2], a, b)
    interface = (1.0 - coat) * share
    base = (1.0 - coat) * (1.0 - share) * largest(surface.diffuse)
    total = coat + interface + base
    to_one = where(total > 0.0, 1.0 / max(total, 1e-30), 0.0)
    return Lobes(
        chance_coat=coat * to_one,
        chance_interface=interface * to_one,
        chance_base=base * to_one,
        under_coat=1.0 - coat,
        coat_boost=coat_boost,
        boost=boost,
        base_out=base_out,
    )


@inner
def _density_ggx(alpha, half):
    """The GGX distribution of normals.

    With the half vector's distance from the normal taken from its x and y, narrow lobes keep
    their precision: 1 − z² would lose it.
    """
    a2 = alpha * alpha
    d = half[0] * half[0] + half[1] * half[1] + a2 * half[2] * half[2]
    return a2 / (math.pi * d * d)


@inner
def _lobe(alpha, wo, wi, half):
    """D·G2 / (4 cos_o), that is, the lobe times cos_i without Fresnel; and the density of `wi`
    reflected off a visible normal."""
    a2 = alpha * alpha
    normals = _density_ggx(alpha, half)
    g_out = math.sqrt(a2 + (1.0 - a2) * wo[2] * wo[2])
    g_in = math.sqrt(a2 + (1.0 - a2) * wi[2] * wi[2])
    value = normals * wi[2] / (2.0 * (wi[2] * g_out + wo[2] * g_in))
    return value, normals / (2.0 * (wo[2] + g_out))


@inner
def scatter(surface, lobes, tables, wo, wi):
    """The scattering function times cos_i, as (r, g, b), what of it is diffuse, and the density of
    sampling `wi`.

    All are 0 where either direction is below the surface.
    """
    up = (wo[2] > 0.0) & (wi[2] > 0.0)
    half, schlick = wi, 0.0 * wi[2]
    if any_of((surface.coat > 0.0) | (surface.f90 > 0.0)):
        half = normalized((wo[0] + wi[0], wo[1] + wi[1], wo[2] + wi[2]))
        slant = 1.0 - max(dot(wo, half), 0.0)
        schlick = slant * slant * slant * slant * slant
    density = lobes.chance_base * wi[2] * (1.0 / math.pi)
    coat_value = 0.0 * density
    if any_of(surface.coat > 0.0):
        coat_value, coat_density = _lobe(surface.coat_alpha, wo, wi, half)
        fresnel = (_COAT_F0 + (1.0 - _COAT_F0) * schlick) * lobes.coat_boost
        coat_value = surface.coat * fresnel * coat_value
        density += lobes.chance_coat * coat_density
    lobe, base = 0.0 * density, 0.0 * density
    if any_of(surface.f90 > 0.0):
        lobe, lobe_density = _lobe(surface.alpha, wo, wi, half)
        lobe = lobes.under_coat * lobe
        density += lobes.chance_interface * lobe_density
    if any_of(lobes.chance_base > 0.0):
        base = lobes.base_out * (1.0 - _interface_share(surface, tables, wi[2]))
        base = base * lobes.under_coat * wi[2] * (1.0 / math.pi)
    f, f90, d, boost = surface.f0, surface.f90, surface.diffuse, lobes.boost
    base = where(up, base, 0.0)
    matt = (base * d[0], base * d[1], base * d[2])
    coat_value, lobe = where(up, coat_value, 0.0), where(up, lobe, 0.0)
    value = (
        coat_value + lobe * (f[0] + (f90 - f[0]) * schlick) * boost[0] + matt[0],
        coat_value + lobe * (f[1] + (f90 - f[1]) * schlick) * boost[1] + matt[1],
        coat_value + lobe * (f[2] + (f90 - f[2]) * schlick) * boost[2] + matt[2],
    )
    return value, matt, where(up, density, 0.0)


@inner
def _visible_normal(alpha, wo, u, v):
    stretched = normalized((wo[0] * alpha, wo[1] * alpha, wo[2]))
    z = (1.0 - v) * (1.0 + stretched[2]) - stretched[2]
    ring = math.sqrt(min(max(1.0 - z * z, 0.0), 1.0))
    sine, cosine = sine_and_cosine(u)
    return normalized((
        (ring * cosine + stretched[0]) * alpha, (ring * sine + stretched[1]) * alpha,
        max(z + stretched[2], 1e-9),
    ))  # fmt: skip


@inner
def _mirrored(wo, normal):
    twice = 2.0 * dot(wo, normal)
    return (normal[0] * twice - wo[0], normal[1] * twice - wo[1], normal[2] * twice - wo[2])


@inner
def _refracted(wo, normal, eta):
    """Snell's law: the direction on the other side, its cosine there, negative under total reflection.

    `eta` is the index on the side of `wo` over that of the other side.
    """
    cosine = dot(wo, normal)
    squared = 1.0 - eta * eta * (1.0 - cosine * cosine)
    across = math.sqrt(max(squared, 0.0))
    step = eta * cosine - across
    direction = (
        normal[0] * step - eta * wo[0], normal[1] * step - eta * wo[1], normal[2] * step - eta * wo[2],
    )  # fmt: skip
    return direction, where(squared > 0.0, across, -1.0)


@inner
def fresnel(cosine, across, eta):
    """Reflectance of the face between two clear media, unpolarised; 1 where `across` is negative.

    The cosines are of the ray and of the refracted one, `eta` as in `_refracted`.
    """
    upright = (eta * cosine - across) / max(eta * cosine + across, 1e-9)
    flat = (cosine - eta * across) / max(cosine + eta * across, 1e-9)
    return where(across < 0.0, 1.0, 0.5 * (upright * upright + flat * flat))


@inner
def bend(surface, wo, leaves, choice, u, v):
    """Where a ray goes that may cross a face of solid glass: its direction, and whether it crosses.

    From outside it always does, because what is reflected there was decided before.  A ray that
    `leaves` the glass is reflected as often as Fresnel says.  Facets of rough glass are those that `wo`
    sees; nothing is lost between them.
    """
    facet = _visible_normal(surface.alpha, wo, u, v)
    eta = where(leaves, surface.ior, 1.0 / surface.ior)
    crossing, across = _refracted(wo, facet, eta)
    reflects = leaves & (choice < fresnel(dot(wo, facet), across, eta))
    straight, _ = _refracted(wo, (0.0 * u, 0.0 * u, 0.0 * u + 1.0), eta)
    crossing = choose(crossing[2] < 0.0, crossing, straight)
    back = _mirrored(wo, facet)
    back = choose(back[2] > 0.0, back, (-wo[0], -wo[1], wo[2]))
    return choose(reflects, back, crossing), ~reflects


@inner
def sample_direction(surface, lobes, wo, choice, u, v):
    """A direction drawn from the lobes; `choice`, `u` and `v` are uniform in [0, 1)."""
    coat = choice < lobes.chance_coat
    interface = ~coat & (choice < lobes.chance_coat + lobes.chance_interface)
    direction = cosine_direction(u, v)
    if any_of(coat | interface):
        alpha = where(coat, surface.coat_alpha, surface.alpha)
        mirrored = _mirrored(wo, _visible_normal(alpha, wo, u, v))
        direction = choose(coat | interface, mirrored, direction)
    return direction
