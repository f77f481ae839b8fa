"""What is known about a file besides its pixels. Everything here is read, nothing is guessed."""

from datetime import datetime
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

Number = Annotated[float, Field(allow_inf_nan=False, ge=-1e9, le=1e9)]
"""A number from a file: one that is a number, and could mean something."""
Positive = Annotated[float, Field(allow_inf_nan=False, gt=0, le=1e6)]
Share = Annotated[float, Field(allow_inf_nan=False, gt=0, le=1)]
Side = Annotated[int, Field(ge=1, le=1_000_000)]
Text = Annotated[str, Field(max_length=2000)]
Code = Annotated[int, Field(ge=0, le=65535)]


def _turns_back(values: tuple[float, ...]) -> tuple[float, ...]:
    """A matrix that can be turned back: three colours, not a plane of them."""
    matrix = np.reshape(values, (3, 3))
    if abs(np.linalg.det(matrix)) <= 1e-6 * float(np.prod(np.linalg.norm(matrix, axis=1))):
        raise ValueError("cannot be turned back")
    return values


Matrix9 = Annotated[tuple[Number, ...], Field(min_length=9, max_length=9)]
Invertible9 = Annotated[Matrix9, AfterValidator(_turns_back)]


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
        subject_area: EXIF's: the middle x, y of what was focused on, its diameter or width and height, in px before turning.
        applied: names of corrections that the file says are in its pixels already: of the lens, and "noise".
        unique_model: UniqueCameraModel, or make and model; profiles: names of the camera profiles inside the file.
        mosaic: what the colour filter is called, for people; decoded: by whom its px are decoded, "" where nobody asked.
        warnings: what was missing or odd, in words.
    """

    model_config = ConfigDict(frozen=True)

    path: str
    kind: Literal["bayer", "camera", "finished"]
    file_bytes: Annotated[int, Field(ge=0)] = 0
    width: Side
    height: Side
    orientation: Annotated[int, Field(ge=1, le=8)] = 1
    make: Text = ""
    model: Text = ""
    serial: Text = ""
    lens: Text = ""
    iso: Annotated[int, Field(ge=1, le=1_000_000_000)] | None = None
    exposure_s: Positive | None = None
    aperture: Positive | None = None
    focal_length_mm: Positive | None = None
    focal_length_35mm: Positive | None = None
    distance_m: Positive | None = None
    subject_area: tuple[Number, ...] = ()
    taken: datetime | None = None
    mosaic: str = ""
    decoded: str = ""
    black: tuple[Number, Number, Number, Number] = (0, 0, 0, 0)
    white: Positive = 65535
    pattern: tuple[int, int] | None = None
    neutral: tuple[Share, Share, Share] = (1, 1, 1)
    colour_matrices: tuple[Invertible9, ...] = ()
    forward_matrices: tuple[Matrix9, ...] = ()
    calibrations: tuple[Invertible9, ...] = ()
    analog_balance: tuple[Positive, Positive, Positive] = (1, 1, 1)
    illuminants: tuple[Code, ...] = ()
    light_places: tuple[tuple[Share, Share] | None, ...] = ()
    default_crop: tuple[Number, Number, Number, Number] | None = None
    baseline_exposure: Annotated[float, Field(allow_inf_nan=False, ge=-10, le=10)] = 0.0
    noise_profile: tuple[Number, ...] = ()
    warp: tuple[tuple[Number, ...], ...] | None = None
    warp_kind: str = "rectilinear"
    warp_reciprocal: bool = False
    warp_centre: tuple[Number, Number] = (0.5, 0.5)
    vignette: tuple[Number, ...] | None = None
    vignette_centre: tuple[Number, Number] = (0.5, 0.5)
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


_NEEDED = ("path", "kind", "width", "height")


def checked(found: dict[str, Any]) -> FrameFacts:
    """Facts as a file gives them, held against what they can be: what makes no sense is left out, with a word.

    Raises:
        ValidationError: a fact without which there is no frame.
    """
    found, said = dict(found), []
    while True:
        try:
            facts = FrameFacts(**found)
            break
        except ValidationError as error:
            wrong = {str(e["loc"][0]) for e in error.errors()}
            if wrong & set(_NEEDED) or not wrong & set(found):
                raise
            for name in sorted(wrong & set(found)):
                said.append(f"What the file says of its {name.replace('_', ' ')} makes no sense and is left out.")
                found.pop(name)
    if not said:
        return facts
    return facts.model_copy(update={"warnings": (*facts.warnings, *said)})
