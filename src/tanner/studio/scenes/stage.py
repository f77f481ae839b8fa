"""A stage for mitsuba: what stands on it, how it is lit, and where the camera is.

All light is of equal energy at every wavelength: what comes back is how the scene passes light on, in six
bands. The simulated camera weighs the bands by the light and by its own sensitivities (see bands.py), so one
rendering serves every light and every camera.
"""

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from tanner.core.colour.spaces import D50_XYZ, SPACES, adaptation
from tanner.core.colour.spectra import WAVELENGTHS, Spectrum, daylight, xyz_of
from tanner.studio.bands import bands
from tanner.studio.scenes.shapes import Mesh

Material = dict[str, Any]
F32 = NDArray[np.float32]


def srgb_of(reflectances: Spectrum) -> NDArray[np.float64]:
    """Linear sRGB (N, 3) of reflectances (N, wavelengths) under daylight of 6,504 K, for renderings in three channels."""
    lit = daylight(6504)
    to = np.linalg.inv(SPACES["srgb"].to_pcs()) @ adaptation(xyz_of(np.ones_like(lit), lit), D50_XYZ)
    xyz = np.array([xyz_of(row, lit) for row in np.atleast_2d(reflectances)])
    return np.clip(xyz @ to.T, 0.002, 1)


def spectrum(values: Spectrum | float) -> dict[str, Any]:
    """A spectrum as the renderer's present variant takes it: all of it, or three channels."""
    import mitsuba as mi

    if np.isscalar(values):
        return {"type": "uniform", "value": float(values)}  # type: ignore[arg-type]
    if "rgb" in (mi.variant() or ""):
        return {"type": "rgb", "value": srgb_of(np.asarray(values))[0].tolist()}
    return {
        "type": "irregular",
        "wavelengths": ", ".join(f"{w:g}" for w in WAVELENGTHS),
        "values": ", ".join(f"{v:.6f}" for v in np.asarray(values)),
    }


def texture(values: F32, repeat: tuple[float, float] = (1, 1), shift: tuple[float, float] = (0, 0)) -> dict[str, Any]:
    """A picture from 0 to 1 as a texture."""
    import mitsuba as mi

    place = mi.ScalarTransform3f().translate(list(shift)).scale(list(repeat))
    return {
        "type": "bitmap",
        "bitmap": mi.Bitmap(np.ascontiguousarray(values[::-1, :, None].astype(np.float32))),
        "raw": True,
        "wrap_mode": "repeat",
        "to_uv": place,
    }


def matte(colour: Spectrum | float) -> Material:
    return {"type": "diffuse", "reflectance": spectrum(colour)}


def gloss(colour: Spectrum | float, rough: float = 0.1, index: float = 1.5) -> Material:
    """Varnish, glaze, lacquer: a clear coat over colour."""
    return {"type": "roughplastic", "diffuse_reflectance": spectrum(colour), "alpha": rough, "int_ior": index,
            "nonlinear": True}  # fmt: skip


def metal(colour: Spectrum | float, rough: float = 0.12) -> Material:
    return {"type": "roughconductor", "material": "none", "specular_reflectance": spectrum(colour), "alpha": rough}


def mix(mask: dict[str, Any] | float, no: Material, yes: Material) -> Material:
    return {"type": "blendbsdf", "weight": mask, "no": no, "yes": yes}


def relief(height: dict[str, Any], depth: float, of: Material) -> Material:
    return {"type": "bumpmap", "height": height, "scale": depth, "of": of}


def both_sides(of: Material) -> Material:
    return {"type": "twosided", "of": of}


class SceneStage:
    """Collects a scene. Sizes in centimetres.

    Attributes:
        truth: what is known about the scene, written beside the picture.
        behind: names of parts that are the backdrop, or the room behind.
        thing: what is being built: parts that are put are of it; things: of which thing each part is.
    """

    def __init__(self, width: int, height: int) -> None:
        self.size = (width, height)
        self.folder = tempfile.TemporaryDirectory()
        self.parts: dict[str, Any] = {}
        self.truth: dict[str, Any] = {}
        self.behind: set[str] = set()
        self.thing = ""
        self.things: dict[str, str] = {}
        self.depth = 7
        self.view: dict[str, Any] = {}
        self.placing: Any = None

    def put(self, mesh: Mesh, material: Material) -> None:
        number = len(self.parts)
        self.things[f"part{number}"] = self.thing
        path = Path(self.folder.name) / f"{number}.ply"
        mesh.write(path)
        self.parts[f"part{number}"] = {"type": "ply", "filename": str(path), "bsdf": material}

    def ball(self, at: ArrayLike, radius: float, material: Material, to_world: Any = None) -> None:
        part: dict[str, Any] = {"type": "sphere", "bsdf": material}
        if to_world is None:
            part |= {"center": [float(v) for v in np.asarray(at)], "radius": radius}
        else:
            part["to_world"] = to_world
        self.things[f"part{len(self.parts)}"] = self.thing
        self.parts[f"part{len(self.parts)}"] = part

    def panel(
        self, at: ArrayLike, to: ArrayLike, width: float, height: float, power: float, up: ArrayLike = (0, 0, 1)
    ) -> None:
        """A soft box or a window: an even rectangle of light."""
        import mitsuba as mi

        place = mi.ScalarTransform4f().look_at(list(map(float, at)), list(map(float, to)), list(map(float, up)))  # type: ignore[call-overload,arg-type]
        self.parts[f"light{len(self.parts)}"] = {
            "type": "rectangle",
            "to_world": place.scale([width / 2, height / 2, 1]),
            "bsdf": matte(0.0),
            "emitter": {"type": "area", "radiance": {"type": "uniform", "value": power}},
        }

    def bulb(self, at: ArrayLike, radius: float, power: float) -> None:
        self.parts[f"light{len(self.parts)}"] = {
            "type": "sphere", "center": [float(v) for v in np.asarray(at)], "radius": radius,
            "emitter": {"type": "area", "radiance": {"type": "uniform", "value": power}},
        }  # fmt: skip

    def surround(self, power: float) -> None:
        """Weak light from all sides, as from the walls of a room."""
        self.parts["surround"] = {"type": "constant", "radiance": {"type": "uniform", "value": power}}

    def camera(
        self, at: ArrayLike, to: ArrayLike, fov: float, aperture: float = 0.0, focus: ArrayLike | None = None
    ) -> None:
        """fov: degrees across the longer side; aperture: radius of the opening; focus: a point that is sharp."""
        import mitsuba as mi

        here, there = np.asarray(at, dtype=float), np.asarray(to, dtype=float)
        sharp = there if focus is None else np.asarray(focus, dtype=float)
        axis = (there - here) / np.linalg.norm(there - here)
        distance = float((sharp - here) @ axis)
        self.placing = mi.ScalarTransform4f().look_at(here.tolist(), there.tolist(), [0, 0, 1])
        self.view = {"fov": fov, "fov_axis": "larger", "to_world": self.placing, "near_clip": 1.0, "far_clip": 5000.0}
        if aperture:
            self.view |= {"type": "thinlens", "aperture_radius": aperture, "focus_distance": distance}
        else:
            self.view |= {"type": "perspective"}
        self.truth["camera"] = {
            "at": here.tolist(), "to": there.tolist(), "fov": fov, "aperture_radius": aperture, "focus_distance": distance,
        }  # fmt: skip

    def places(self, points: ArrayLike) -> NDArray[np.float64]:
        """Where points (N, 3) are in the picture, as parts of its width and height (N, 2)."""
        world = np.array(self.placing.matrix).reshape(4, 4)
        at = (np.atleast_2d(np.asarray(points, dtype=float)) - world[:3, 3]) @ world[:3, :3]
        w, h = self.size
        reach = np.tan(np.radians(self.view["fov"] / 2)) / (max(w, h) / 2)
        # mitsuba's camera looks along +z with x to the left
        x = 0.5 - at[:, 0] / at[:, 2] / reach / w
        y = 0.5 - at[:, 1] / at[:, 2] / reach / h
        return np.stack([x, y], axis=1)

    def scene(self, **how: Any) -> Any:
        import mitsuba as mi

        return mi.load_dict(
            {"type": "scene", "integrator": {"type": "path", "max_depth": self.depth, "rr_depth": 4}, **self.parts},
            **how,
        )

    def sensor(self, spectral: bool) -> Any:
        import mitsuba as mi

        w, h = self.size
        film: dict[str, Any] = {"width": w, "height": h, "rfilter": {"type": "box"}, "component_format": "float32"}
        if spectral:
            film["type"] = "specfilm"
            for i, band in enumerate(bands()):
                film[f"band{i}"] = spectrum(band)
        else:
            film["type"] = "hdrfilm"
        return mi.load_dict({**self.view, "film": film, "sampler": {"type": "independent"}})
