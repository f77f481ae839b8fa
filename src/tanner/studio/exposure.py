"""What the simulated cameras are told for one frame, and the truth that follows from it."""

import json
from dataclasses import asdict, dataclass
from datetime import datetime
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spectra import Spectrum
from tanner.studio import flat, light
from tanner.studio.bands import PICTURES


@dataclass(frozen=True)
class LensModel:
    """A made-up lens: DNG warp of three planes and fall-off. Coefficients correct the picture."""

    name: str
    focal_length: float
    aperture: float
    warp: tuple[tuple[float, ...], ...]
    vignette: tuple[float, ...]


def _lens(name: str, focal: float, aperture: float, bend: float, fall: float) -> LensModel:
    colour = 0.00035
    planes = tuple((1.0 + s * colour, bend, -bend * 0.15, 0.0, 0.0, 0.0) for s in (-1, 0, 1.4))
    return LensModel(name, focal, aperture, planes, (fall, fall * 0.35, fall * 0.1, 0.0, 0.0))


LENSES = {
    "standard": _lens("Finch 55 mm", 55, 8.0, -0.018, 0.28),
    "portrait": _lens("Finch 90 mm", 90, 2.8, 0.008, 0.34),
    "close": _lens("Finch 60 mm close", 60, 11.0, -0.004, 0.12),
    "wide": _lens("Finch 24 mm", 24, 5.6, -0.055, 0.55),
    "very wide": _lens("Finch 14 mm", 14, 7.1, -0.075, 0.8),
}


@dataclass(frozen=True)
class Exposure:
    """One frame to be taken, and thereby its truth.

    Attributes:
        scene: a rendered scene (studio/pictures) or a drawn one (studio/drawn.py).
        ev: drift of the light in stops; 0 puts a perfect white at 0.62 of the sensor's range.
        kelvin: colour of the light; believed: what the camera takes it for.
        source: a light that has no temperature of its own, by its name in light.py.
        span: how much of a rendered scene is in the frame, 1 for all of it; shift: where, in parts of what is left.
        turned: degrees that the camera is turned right, down and clockwise about its own place.
        focus: cm that the focus lies behind the scene's own; opening: radius of the lens's opening in cm, 0 for the
            scene's own.
        moved: px of the frame, as the scene lies, that the camera moved during the exposure.
        dusty: dust lies on the sensor; behind_glass: a pane stands before the scene (faults.py).
        lights: of a scene whose lights were rendered apart, each by its name and how strong it burns.
    """

    name: str
    scene: str
    turn: float
    kelvin: float
    believed: float
    ev: float
    iso: int
    lens: str
    shutter: float
    taken: datetime
    upright: bool = False
    seed: int = 1
    width: int = 3480
    height: int = 2320
    camera: str = "Alder One"
    source: str = ""
    span: float = 1.0
    shift: tuple[float, float] = (0.0, 0.0)
    turned: tuple[float, float, float] = (0.0, 0.0, 0.0)
    focus: float = 0.0
    opening: float = 0.0
    moved: tuple[float, float] = (0.0, 0.0)
    dusty: bool = False
    behind_glass: bool = False
    lights: tuple[tuple[str, float], ...] = ()

    def spectrum(self) -> Spectrum:
        return light.source(self.source) if self.source else light.light(self.kelvin)

    def corner(self) -> tuple[float, float]:
        """Left and top of the frame in a rendered scene, upright, in parts of the scene's picture."""
        rest = (1 - self.span) / 2
        return rest * (1 + self.shift[0]), rest * (1 + self.shift[1])

    def to_scene(self) -> NDArray[np.float64]:
        """Places (x, y, 1) of the upright frame to places of the scene's picture, both from 0 to 1: (3, 3)."""
        left, top = self.corner()
        part = np.array([[self.span, 0, left], [0, self.span, top], [0, 0, 1.0]])
        if not any(self.turned):
            return part
        view = _known(self.scene)["camera"]
        w, h = (self.height, self.width) if self.upright else (self.width, self.height)
        focal = max(w, h) / 2 / (self.span * np.tan(np.radians(view["fov"] / 2)))
        inner = np.array([[focal / w, 0, 0.5], [0, focal / h, 0.5], [0, 0, 1]])
        right, down, clock = np.radians(self.turned)
        about_up = np.array([[np.cos(right), 0, np.sin(right)], [0, 1, 0], [-np.sin(right), 0, np.cos(right)]])
        about_side = np.array([[1, 0, 0], [0, np.cos(down), np.sin(down)], [0, -np.sin(down), np.cos(down)]])
        about_view = np.array([[np.cos(clock), -np.sin(clock), 0], [np.sin(clock), np.cos(clock), 0], [0, 0, 1]])
        return np.asarray(part @ inner @ about_up @ about_side @ about_view @ np.linalg.inv(inner))

    def truth(self) -> dict[str, Any]:
        """JSON: what was set, and what is where. Places run from 0 to 1 in the upright frame without lens faults."""
        return {
            **asdict(self),
            "taken": self.taken.isoformat(),
            "white_level": 0.62 * 2**self.ev,
            "lens_model": asdict(LENSES[self.lens]),
            "noise_electrons_full_scale": 52_000.0 * 100 / self.iso,
            "in_the_scene": self._placed(_known(self.scene) or flat.truth(self.scene, self.width / self.height)),
        }

    def _placed(self, known: Any) -> Any:
        """The scene's truth with its places moved to where they are in this frame."""
        back = np.linalg.inv(self.to_scene())

        def at(x: float, y: float) -> list[float]:
            u, v, w = back @ [x, y, 1.0]
            return [round(float(u / w), 5), round(float(v / w), 5)]

        result = dict(known)
        if "spots" in known:
            result["spots"] = [
                {**s, "place": at(*s["place"]), "radius": round(s["radius"] / self.span, 6)} for s in known["spots"]
            ]
        if "faces" in known:
            result["faces"] = [
                {**f, "box": at(*f["box"][:2]) + at(*f["box"][2:]), "eyes": [at(*e) for e in f["eyes"]]}
                for f in known["faces"]
            ]
        if "chart" in known:
            result["chart"] = [{**c, "corners": [at(*p) for p in c["corners"]]} for c in known["chart"]]
            result["grey_card"] = [at(*p) for p in known["grey_card"]]
        if "straight_edges" in known:
            result["straight_edges"] = [[at(*p) for p in edge] for edge in known["straight_edges"]]
        return result


@cache
def _known(scene: str) -> dict[str, Any]:
    path = PICTURES / f"{scene}.json"
    return json.loads(path.read_text()) if path.exists() else {}


def discs(shot: Exposure, focus: float, opening: float) -> NDArray[np.float64]:
    """Radius of the circle of confusion in px of the frame, from the scene's depth, at 1/8 of the scene's size.

    A thin lens (source: common optics): an opening of radius a, focused at f, draws a point at distance d as a disc
    of radius a * |d - f| / d in the plane of focus.

    Args:
        focus: cm behind the scene's own; opening: radius in cm, 0 for the scene's own.
    """
    view = _known(shot.scene)["camera"]
    with np.load(PICTURES / f"{shot.scene}.depth.npz") as stored:
        distance = stored["centimetres"].astype(np.float64)
    h, w = distance.shape
    reach = np.tan(np.radians(view["fov"] / 2))
    x, y = np.meshgrid((np.arange(w) + 0.5) * 2 - w, (np.arange(h) + 0.5) * 2 - h)
    long = max(w, h)
    depth = distance / np.sqrt(1 + (x * reach / long) ** 2 + (y * reach / long) ** 2)
    sharp = view["focus_distance"] + focus
    disc = (opening or view["aperture_radius"]) * np.abs(depth - sharp) / np.maximum(depth, 1e-3)
    across = 2 * sharp * reach * shot.span
    return np.where(depth > 0, disc / across * max(shot.width, shot.height), 0.0)


def blur(shot: Exposure) -> NDArray[np.float64]:
    """Radius of the circle of confusion of a frame in px, at 1/8 of the scene's size."""
    return discs(shot, shot.focus, shot.opening)
