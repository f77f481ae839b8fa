"""What is known about a file besides its pixels. Everything here is read, nothing is guessed."""

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

Matrix9 = tuple[float, ...]


def camera_name(make: str, model: str) -> str:
    """Make and model, without the make twice where the model begins with it."""
    if make and model.lower().startswith(make.lower().split()[0]):
        return model
    return f"{make} {model}".strip()


class FrameFacts(BaseModel):
    """Facts about one file.

    Attributes:
        kind: how its pixels come: a Bayer mosaic, linear camera RGB, or a finished picture.
        width, height: of the sensor's active area, before orientation.
        orientation: EXIF 1 to 8.
        black: by row and column parity; white: one value. In the file's own numbers.
        pattern: row and column parity of red; None when there is no Bayer mosaic.
        neutral: camera numbers of the as-shot white, largest at 1.
        colour_matrices, forward_matrices, calibrations: 3 x 3 row-major, one per light.
        illuminants: EXIF LightSource code of each light; light_places: its chromaticity where the file says it, else None.
        noise_profile: scale and offset of the variance, per plane, of values from 0 to 1.
        default_crop: left, top, width and height of the part that a DNG asks to be shown, in px of the active area.
        warp: coefficients of the file's warp per plane (see `optics.lens.OpcodeLens`); vignette: FixVignetteRadial's five;
            lens_order: in which order these and gain maps work.
        focal_length_35mm: the focal length that sees as much on 36 x 24 mm, over the diagonal.
        applied: names of corrections that the file says are in its pixels already: of the lens, and "noise".
        unique_model: UniqueCameraModel, or make and model; profiles: names of the camera profiles inside the file.
        mosaic: what the colour filter is called, for people.
        warnings: what was missing or odd, in words.
    """

    model_config = ConfigDict(frozen=True)

    path: str
    kind: Literal["bayer", "camera", "finished"]
    file_bytes: int = 0
    width: int
    height: int
    orientation: int = 1
    make: str = ""
    model: str = ""
    serial: str = ""
    lens: str = ""
    iso: int | None = None
    exposure_s: float | None = None
    aperture: float | None = None
    focal_length_mm: float | None = None
    focal_length_35mm: float | None = None
    distance_m: float | None = None
    taken: datetime | None = None
    mosaic: str = ""
    black: tuple[float, float, float, float] = (0, 0, 0, 0)
    white: float = 65535
    pattern: tuple[int, int] | None = None
    neutral: tuple[float, float, float] = (1, 1, 1)
    colour_matrices: tuple[Matrix9, ...] = ()
    forward_matrices: tuple[Matrix9, ...] = ()
    calibrations: tuple[Matrix9, ...] = ()
    analog_balance: tuple[float, float, float] = (1, 1, 1)
    illuminants: tuple[int, ...] = ()
    light_places: tuple[tuple[float, float] | None, ...] = ()
    default_crop: tuple[float, float, float, float] | None = None
    baseline_exposure: float = 0.0
    noise_profile: tuple[float, ...] = ()
    warp: tuple[tuple[float, ...], ...] | None = None
    warp_kind: str = "rectilinear"
    warp_reciprocal: bool = False
    warp_centre: tuple[float, float] = (0.5, 0.5)
    vignette: tuple[float, ...] | None = None
    vignette_centre: tuple[float, float] = (0.5, 0.5)
    lens_order: tuple[str, ...] = ()
    opcodes: tuple[str, ...] = ()
    applied: tuple[str, ...] = ()
    keywords: tuple[str, ...] = ()
    has_profile: bool = False
    unique_model: str = ""
    calibration_signature: str = ""
    profiles: tuple[str, ...] = ()
    warnings: tuple[str, ...] = Field(default=())

    @property
    def is_raw(self) -> bool:
        return self.kind != "finished"

    @property
    def camera_name(self) -> str:
        return camera_name(self.make, self.model)

    def summary(self) -> dict[str, Any]:
        """The public form, as `tanner info --json` prints it."""
        return self.model_dump(mode="json")
