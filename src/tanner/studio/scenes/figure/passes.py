"""The renderings of a person and what they give together.

Skin scatters below its surface: its diffuse light is rendered with one mean colour ("full" less "gloss", where skin is
black), blurred by a sum of Gaussians per channel (source: deon07), and only then multiplied by the painted
albedo; the gloss is added sharp. The renderer works in linear sRGB; `to_bands` tells the six bands from that.
"""

import tempfile
from collections.abc import Callable, Sequence
from functools import cache, partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter, maximum_filter, minimum_filter

from tanner.studio.bands import bands
from tanner.studio.light import MATERIALS
from tanner.studio.scenes.figure import mesh, skin
from tanner.studio.scenes.figure.person import Figure, PersonLook, Skin
from tanner.studio.scenes.figure.strands import Hairs
from tanner.studio.scenes.render import far_away
from tanner.studio.scenes.shapes import F64, I64
from tanner.studio.scenes.stage import SceneStage, srgb_of

F32 = NDArray[np.float32]
PROFILE: list[tuple[float, tuple[float, float, float]]] = [
    (0.0064, (0.233, 0.455, 0.649)), (0.0484, (0.100, 0.336, 0.344)), (0.187, (0.118, 0.198, 0.0)),
    (0.567, (0.113, 0.007, 0.007)), (1.99, (0.358, 0.004, 0.0)), (7.41, (0.078, 0.0, 0.0)),
]  # fmt: skip
"""Skin: variance in mm2, and weights of red, green, blue (source: deon07)."""
STRENGTH, BEFORE = 0.65, 0.3
"""Of the profile's widths; and the share of the colour that is met before the scattering, the rest after it."""
People = Sequence[tuple[Figure, PersonLook]]
MODES = ("albedo", "parts", "more parts", "details", "full", "gloss")
PAINTED = 48
"""Samples of the passes without light: a hair covers a third of a px, and what it covers must not be noise."""
RELATIVE = 0.1
"""Painted albedos are shares of the person's mean, times this: what is painted may not be brighter than white."""
PARTS = ("skin", "lips", "eyes", "iris", "hair", "cloth")
"""Names of the masks, three in each of the two passes of parts."""


def rgb(v: Any) -> dict[str, Any]:
    return {"type": "rgb", "value": [float(x) for x in v]}


def _shape(points: F64, quads: I64, bsdf: dict[str, Any], marks: dict[str, Any] | None = None, normals: F64 | None = None) -> Any:  # fmt: skip
    import mitsuba as mi

    n = mesh.normals(points, quads) if normals is None else normals
    rows = np.concatenate([points, n], 1).astype("<f4")
    triangles = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    head = ["ply", "format binary_little_endian 1.0", f"element vertex {len(rows)}"]
    head += [f"property float {v}" for v in ("x", "y", "z", "nx", "ny", "nz")]
    head += [f"element face {len(triangles)}", "property list uchar int vertex_indices", "end_header"]
    faces = np.empty(len(triangles), dtype=[("n", "u1"), ("v", "<i4", 3)])
    faces["n"], faces["v"] = 3, triangles
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "mesh.ply"
        path.write_bytes("\n".join(head).encode() + b"\n" + rows.tobytes() + faces.tobytes())
        shape = mi.load_dict({"type": "ply", "filename": str(path), "bsdf": bsdf})
    for name, values in (marks or {}).items():
        v = np.asarray(values, np.float32)
        shape.add_attribute(name, v.shape[1] if v.ndim > 1 else 1, v.ravel())
    return shape


def _curves(hairs: Hairs, bsdf: dict[str, Any], end: float = 0.25) -> Any:
    """Lines as thin rods. end: their width at the tip over that at the root."""
    import mitsuba as mi

    lines, radius = hairs
    count = lines.shape[1]
    full = np.concatenate([2 * lines[:, :1] - lines[:, 1:2], lines, 2 * lines[:, -1:] - lines[:, -2:-1]], 1)
    wide = radius[:, None] * np.concatenate([[1], np.linspace(1, end, count), [end]])[None]
    rows = np.concatenate([full, wide[..., None]], -1)
    each = "%.5f %.5f %.5f %.5f\n" * rows.shape[1] + "\n"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "hairs.txt"
        path.write_text(each * len(rows) % tuple(rows.ravel().tolist()))
        part = {"type": "bsplinecurve", "filename": str(path), "bsdf": bsdf}
        return mi.load_dict(part)


def _hair(melanin: float, pheomelanin: float) -> dict[str, Any]:
    return {"type": "hair", "eumelanin": melanin, "pheomelanin": pheomelanin, "longitudinal_roughness": 0.28,
            "azimuthal_roughness": 0.32, "scale_tilt": 2.5}  # fmt: skip


def _painted(points: F64, quads: I64, values: F32, normals: F64 | None = None) -> Any:
    paint = {"type": "diffuse", "reflectance": {"type": "mesh_attribute", "name": "vertex_a"}}
    return _shape(points, quads, paint, {"vertex_a": values}, normals)


def _skin_values(mode: str, s: Skin, mean: F64) -> F32:
    n = len(s.points)
    if mode == "albedo":
        return (s.albedo * (RELATIVE / mean)).astype(np.float32)
    zero = np.zeros(n)
    return np.stack([np.ones(n), s.lips, zero] if mode == "parts" else [zero] * 3, 1).astype(np.float32)


def _painted_parts(figure: Figure, mode: str) -> dict[str, Any]:
    """The person in flat colours: what the painted albedo, the cover and the masks are seen by."""
    parts: dict[str, Any] = {}
    mean = mean_albedo(figure)
    for i, s in enumerate(figure.skin):
        parts[f"skin{i}"] = _painted(s.points, s.quads, _skin_values(mode, s, mean), s.normals)
    for i, ball in enumerate(figure.eyes):
        one, zero = np.ones(len(ball.points)), np.zeros(len(ball.points))
        values: dict[str, F64 | F32] = {
            "albedo": ball.albedo * (RELATIVE / mean),
            "parts": np.stack([zero, zero, one], 1),
            "more parts": np.stack([ball.iris, zero, zero], 1),
            "details": np.zeros((len(ball.points), 3)),
        }
        parts[f"eye{i}"] = _painted(ball.points, ball.quads, values[mode].astype(np.float32))
    for name, c in figure.cloth.items():
        shown = np.tile([0, 0, 1.0 if mode == "more parts" else 0], (len(c.points), 1))
        parts[name] = _painted(c.points, c.quads, shown.astype(np.float32))
    for name, hairs in figure.hairs.items():
        if name == "down":
            continue
        flat = {"more parts": (0, 1, 0), "details": (0, 1 if name == "brows" else 0, 0)}.get(mode, (0, 0, 0))
        parts[name] = _curves(hairs, {"type": "diffuse", "reflectance": rgb(flat)})
    if figure.glasses:
        paint = rgb((1, 0, 0) if mode == "details" else (0, 0, 0))
        parts["glasses"] = _curves(figure.glasses, {"type": "diffuse", "reflectance": paint}, 1.0)
    return parts


def _lit_parts(figure: Figure, look: PersonLook, mode: str) -> dict[str, Any]:
    parts: dict[str, Any] = {}
    colour = rgb(mean_albedo(figure) if mode == "full" else (0, 0, 0))

    def coat(rough: Any, shine: float) -> dict[str, Any]:
        return {"type": "principled", "base_color": colour, "specular": shine, "roughness": rough}

    by_mark = {"type": "mesh_attribute", "name": "vertex_r"}
    for i, s in enumerate(figure.skin):
        parts[f"skin{i}"] = _shape(
            s.points, s.quads, coat(by_mark, look.gloss), {"vertex_r": s.rough}, normals=s.normals
        )
    for i, ball in enumerate(figure.eyes):
        parts[f"eye{i}"] = _shape(ball.points, ball.quads, coat(0.20, 0.5))
    for name, hairs in figure.hairs.items():
        parts[name] = _curves(hairs, _hair(0.15, 0.15) if name == "down" else _hair(*look.hair))
    return parts


def _worn(figure: Figure, look: PersonLook) -> dict[str, Any]:
    parts: dict[str, Any] = {}
    for name, c in figure.cloth.items():
        tone = np.array(look.cap if name == "cap" else look.wool)
        wool = {"type": "principled", "base_color": {"type": "mesh_attribute", "name": "vertex_c"}, "roughness": 0.9,
                "specular": 0.2, "sheen": 0.6, "sheen_tint": 0.5}  # fmt: skip
        shade = np.clip(c.shade[:, None] * tone * 1.5, 0, 1)
        parts[name] = _shape(c.points, c.quads, {"type": "twosided", "of": wool}, {"vertex_c": shade})
        fibre = {"type": "diffuse", "reflectance": rgb(np.clip(tone * 2.2, 0, 1))}
        parts[f"{name} fuzz"] = _curves(figure.fuzz[name], fibre)
    if figure.glasses and look.glasses:
        horn = {"type": "principled", "base_color": rgb(look.glasses), "roughness": 0.22, "specular": 0.6}
        parts["glasses"] = _curves(figure.glasses, horn, 1.0)
    return parts


def _run(scene: Any, sensor: Any, integrator: Any, samples: int, note: Callable[[str], None]) -> F32:
    import mitsuba as mi

    w, h = sensor.film().size()
    each = max(1, min(samples, int(8e6 // (int(w) * int(h)))))
    total, done = np.zeros((int(h), int(w), 3), np.float32), 0
    while done < samples:
        n = min(each, samples - done)
        total += np.array(mi.render(scene, sensor=sensor, integrator=integrator, spp=n, seed=done))[..., :3] * n
        done += n
        note(f"{done} of {samples} samples")
    return total / np.float32(done)


def _all(people: People, parts: Callable[[Figure, PersonLook], dict[str, Any]]) -> dict[str, Any]:
    """The parts of all people, under names of their own."""
    return {f"{name} {n}": part for n, (f, look) in enumerate(people) for name, part in parts(f, look).items()}


def _flat(people: People, sensor: Any, mode: str, note: Callable[[str], None]) -> F32:
    """One pass without light."""
    import mitsuba as mi

    scene = mi.load_dict({"type": "scene", **_all(people, lambda f, _: _painted_parts(f, mode))})
    seen = mi.load_dict({"type": "aov", "aovs": "a:albedo"})
    return _run(scene, sensor, seen, PAINTED, lambda text: note(f"{mode}: {text}"))


def painted(stage: SceneStage, people: People, note: Callable[[str], None]) -> dict[str, F32]:
    """The passes that masks are made of, alone, and "depth" in cm (H, W)."""
    found = {mode: _flat(people, stage.sensor(False), mode, note) for mode in ("parts", "more parts", "details")}
    return {**found, "depth": depth(stage, people)}


def depth(stage: SceneStage, people: People) -> F32:
    """How far away in cm what the middle of each px shows is, (H, W); hair is a thing of its own."""
    import mitsuba as mi

    everything = {**_all(people, partial(_lit_parts, mode="full")), **_all(people, _worn), **stage.parts}
    scene = mi.load_dict({"type": "scene", **everything})
    return far_away(scene, stage.sensor(False), stage.size)


def rendered(
    stage: SceneStage, people: People, around: dict[str, Any], lights: dict[str, Any], samples: int, note: Callable[[str], None]
) -> dict[str, F32]:  # fmt: skip
    """All passes, (H, W, 3) each, by their names in MODES, with "normal", "depth" and "cover"; what is lit is without noise.

    Args:
        around: other parts of the scene; they shade and are seen in the lit passes only.
    """
    import mitsuba as mi
    from mitsuba_oidn import denoise

    sensor = stage.sensor(False)
    found: dict[str, F32] = {}
    worn = _all(people, _worn)
    for mode in MODES:
        if mode not in ("full", "gloss"):
            found[mode] = _flat(people, sensor, mode, note)
            continue
        lit = _all(people, partial(_lit_parts, mode=mode))
        scene = mi.load_dict({"type": "scene", **lit, **worn, **around, **lights})
        path = mi.load_dict({"type": "path", "max_depth": 6, "rr_depth": 4})
        found[mode] = _run(scene, sensor, path, samples, lambda text, m=mode: note(f"{m}: {text}"))  # type: ignore[misc]
        if mode == "full":
            looks = mi.load_dict({"type": "aov", "aovs": "n:sh_normal,d:depth"})
            seen = [np.array(mi.render(scene, sensor=sensor, integrator=looks, spp=1, seed=900 + k)) for k in range(12)]
            both = np.mean(seen, axis=0).astype(np.float32)
            found["normal"], found["depth"] = (
                both[..., :3],
                np.median(np.stack(seen)[..., 3], axis=0).astype(np.float32),
            )
        del scene, lit
    # Skin and eyes are what has a painted colour.
    found["cover"] = np.repeat(np.clip(found["parts"][..., :1] + found["parts"][..., 2:], 0, 1), 3, axis=-1)
    normal = np.ascontiguousarray(denoise(np.ascontiguousarray(found["normal"]), hdr=False))
    aid = np.ascontiguousarray(np.clip(found["cover"] * 0.5, 0, 1))
    for mode in ("full", "gloss"):
        clean = denoise(np.ascontiguousarray(found[mode]), albedo=aid, normal=normal, hdr=True, clean_aux=True)
        found[mode] = np.maximum(clean, 0)
    # Outlines as clean as the lit passes are; not hairs, of which a denoiser makes hard strokes.
    soft = np.clip(denoise(np.ascontiguousarray(found["cover"]), hdr=False), 0, 1)
    bare = maximum_filter(found["more parts"][..., 1:2], (3, 3, 1)) < 0.01
    edge = (np.abs(soft - np.round(soft)) > 0.02) & bare
    found["albedo"] = np.where(edge, found["albedo"] / np.maximum(found["cover"], 0.05) * soft, found["albedo"])
    found["cover"] = np.where(edge, soft, found["cover"])
    return found


def mean_albedo(figure: Figure) -> F64:
    return np.asarray(np.average(figure.skin[1].albedo, axis=0), dtype=np.float64)


def _scattered(light: F32, cover: F32, mm: float) -> F32:
    """Diffuse light of skin (H, W, 3), spread below the surface. mm: px in a millimetre."""
    out = np.zeros_like(light)
    for c in range(3):
        total = sum(w[c] for _, w in PROFILE)
        wide = gaussian_filter(light[..., c], 3 * mm), gaussian_filter(cover[..., c], 3 * mm)
        for variance, w in PROFILE:
            if w[c] == 0:
                continue
            s = float(np.sqrt(variance)) * mm * STRENGTH
            above = gaussian_filter(light[..., c], s, truncate=3.5)
            below = gaussian_filter(cover[..., c], s, truncate=3.5)
            out[..., c] += w[c] / total * (above + 1e-3 * wide[0]) / np.maximum(below + 1e-3 * wide[1], 1e-7)
    return out


def composed(found: dict[str, F32], mm: float) -> F32:
    """The picture (H, W, 3), linear sRGB. mm: px in a millimetre of the face.

    Light is taken where skin fills the px, and drawn out from there, so that hairs and outlines leave no rims.
    """
    full, gloss, cover = found["full"], found["gloss"], found["cover"]
    lit = np.maximum(full - gloss, 0)
    sure = (minimum_filter(cover[..., 0], 3) > 0.96).astype(np.float32)
    some = np.clip((cover[..., 0] - 0.5) / 0.45, 0, 1) * np.float32(1e-5)
    weight = np.maximum(sure, some)[..., None].repeat(3, -1)
    flat = lit / np.maximum(cover, 0.05)
    paint = np.maximum(found["albedo"] / np.maximum(cover, 1e-3) / RELATIVE, 1e-4).astype(np.float32)
    light = flat * paint**BEFORE
    spread = _scattered(light * weight, weight, mm)
    # A sliver of skin in the shade of a cap has no light to be drawn out from: it gets little more than is seen there.
    most = maximum_filter(np.where(cover > 0.1, light, 0), (3, 3, 1)) * np.float32(1.6) + np.float32(1e-3)
    spread = np.where(sure[..., None] > 0, spread, np.minimum(spread, most))
    return np.asarray(
        gloss + np.where(cover[..., :1] > 0.01, spread * paint ** (1 - BEFORE) * cover, lit), dtype=np.float32
    )


@cache
def to_bands() -> F64:
    """Linear sRGB to the six bands, (6, 3): least squares over skins, wools and the workshop's materials, white kept."""
    reflectances = [skin.reflectance(m, b) for m in np.linspace(0.02, 1.4, 12) for b in np.linspace(0.1, 1.8, 8)]
    rows = np.array([*reflectances, *MATERIALS.values()])
    seen, wanted = srgb_of(rows), rows @ bands().T
    grey = seen @ np.array([0.2, 0.7, 0.1])
    weight = 1 / (grey + 0.02)
    rest = np.linalg.lstsq(
        (seen - grey[:, None]) * weight[:, None], (wanted - grey[:, None]) * weight[:, None], rcond=None
    )[0]
    # What differs from grey is fitted; grey stays grey.
    return np.asarray(
        rest.T @ (np.eye(3) - np.outer(np.ones(3), [0.2, 0.7, 0.1])) + np.outer(np.ones(len(bands())), [0.2, 0.7, 0.1])
    )


def masks(found: dict[str, F32]) -> dict[str, NDArray[np.uint8]]:
    """The masks of PARTS and of "brows", (H, W), 255 for all, and "glasses" where somebody wears some."""
    both = np.concatenate([found["parts"], found["more parts"]], axis=-1)
    shown = {name: both[..., k] for k, name in enumerate(PARTS)}
    glasses, shown["brows"], _ = np.moveaxis(found["details"], -1, 0)
    if glasses.any():
        shown["glasses"] = glasses
    return {name: np.rint(np.clip(mask, 0, 1) * 255).astype(np.uint8) for name, mask in shown.items()}
