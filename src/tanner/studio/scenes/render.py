"""Renders the scenes: `make scenes`, or `python -m tanner.studio.scenes.render lamp-1 --samples 4 --scale 0.25`.

Needs the extra packages of `pip install .[scenes]` and LLVM 19; Tanner itself does not. Works in passes of one
or two samples a pixel, so that memory stays small; the last finished picture is replaced whole.
"""

import json
import time
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer
from numpy.typing import NDArray

from tanner.core.output.files import write_whole
from tanner.studio.bands import COUNT, PICTURES, bands
from tanner.studio.pictures import write
from tanner.studio.scenes.shots import SHOTS
from tanner.studio.scenes.stage import SceneStage

WIDTH, HEIGHT = 2880, 1920
LOOKS = 12
"""Samples of what the denoiser is told of the surfaces."""
F32 = NDArray[np.float32]


def accumulate(stage: SceneStage, samples: int, note: str) -> tuple[F32, F32, F32, F32]:
    """Bands (H, W, 6), albedo (H, W, 3), normals (H, W, 3) and depth (H, W), before denoising."""
    import mitsuba as mi

    scene, sensor = stage.scene(), stage.sensor(True)
    w, h = stage.size
    per_pass = max(1, min(samples, int(12e6 // (w * h))))
    total = np.zeros((h, w, COUNT), np.float32)
    done, start = 0, time.time()
    while done < samples:
        total += np.array(mi.render(scene, sensor=sensor, spp=per_pass, seed=done)) * per_pass
        done += per_pass
        print(f"  {note}: {done} of {samples} samples, {time.time() - start:.0f} s", flush=True)
    plain = stage.sensor(False)
    looks = mi.load_dict({"type": "aov", "aovs": "a:albedo,n:sh_normal,d:depth"})
    extra, count = np.zeros((h, w, 7), np.float32), 0
    while count < LOOKS:
        extra += np.array(mi.render(scene, sensor=plain, integrator=looks, spp=per_pass, seed=900 + count)) * per_pass
        count += per_pass
    extra /= count
    found = (total / done, np.clip(extra[..., :3], 0, 1), extra[..., 3:6], extra[..., 6])
    return tuple(np.asarray(part, dtype=np.float32) for part in found)  # type: ignore[return-value]


def far_away(scene: Any, sensor: Any, size: tuple[int, int]) -> F32:
    """How far away in cm what the middle of each px shows is, (h, w); 0 where nothing is."""
    import drjit as dr
    import mitsuba as mi

    w, h = size
    n = dr.arange(mi.UInt32, w * h)
    middle = mi.Point2f((mi.Float(n % w) + 0.5) / w, (mi.Float(n // w) + 0.5) / h)
    rays, _ = sensor.sample_ray(0.0, 0.5, middle, mi.Point2f(0.5, 0.5))
    hit = scene.ray_intersect(rays)
    return np.array(dr.select(hit.is_valid(), hit.t, 0.0)).reshape(h, w).astype(np.float32)


def denoised(raw: F32, albedo: F32, normal: F32) -> F32:
    """Without the noise of the sampling, three bands at a time."""
    from mitsuba_oidn import denoise

    aids = [np.ascontiguousarray(denoise(np.ascontiguousarray(a), hdr=False)) for a in (albedo, normal)]
    result = np.empty_like(raw)
    for triple in ((4, 2, 0), (5, 3, 1)):
        part = np.ascontiguousarray(raw[..., triple])
        result[..., triple] = denoise(part, albedo=aids[0], normal=aids[1], hdr=True, clean_aux=True)
    return np.maximum(result, 0)


def begin(variant: str, into: Path) -> None:
    """Ready the renderer and the folder for pictures."""
    import mitsuba as mi

    mi.set_variant(variant)
    mi.set_log_level(mi.LogLevel.Error)
    into.mkdir(parents=True, exist_ok=True)


def staged(name: str, scale: float) -> SceneStage:
    """A scene built for a share of its full size."""
    build, turn, upright = SHOTS[name]
    w, h = round(WIDTH * scale / 2) * 2, round(HEIGHT * scale / 2) * 2
    stage = SceneStage(h, w) if upright else SceneStage(w, h)
    build(stage, turn)
    return stage


def shoot(name: str, samples: int, scale: float, into: Path) -> None:
    stage = staged(name, scale)
    raw, albedo, normal, depth = accumulate(stage, samples, name)
    raw /= bands().sum(axis=1).astype(np.float32)
    planes = denoised(raw, albedo, normal)
    level = float(np.percentile(planes.mean(axis=-1), stage.truth.pop("white_percentile", 99.0)))
    planes *= np.float32(stage.truth.pop("white_target", 0.75) / level)
    truth = {"scene": name, "size": list(stage.size), "samples": samples, **stage.truth}
    nearest = np.minimum(depth[::8, ::8], 6500)
    np.savez_compressed(into / f"{name}.depth.npz", centimetres=nearest.astype(np.float16))
    write(into, name, planes)
    write_whole(into / f"{name}.json", json.dumps(truth, indent=1).encode() + b"\n", replace=True)


def there(name: str, samples: int, longest: int, into: Path) -> bool:
    """Whether a picture is there, as large and with as many samples: a run that was ended goes on."""
    path = into / f"{name}.json"
    known = json.loads(path.read_text()) if path.exists() else {}
    return bool(known.get("samples", 0) >= samples and max(known.get("size", [0])) >= longest - 1)


def main(
    names: Annotated[list[str] | None, typer.Argument()] = None,
    samples: int = 24,
    scale: float = 1.0,
    into: Path = PICTURES,
) -> None:
    """Render scenes by name, or all of them that are not there yet; names of portraits are left to `figure.sitting`."""
    begin("llvm_ad_spectral", into)
    for name in names or [n for n in SHOTS if not there(n, samples, round(WIDTH * scale), into)]:
        if name not in SHOTS:
            continue
        start = time.time()
        shoot(name, samples, scale, into)
        print(f"{name}: {time.time() - start:.0f} s", flush=True)


if __name__ == "__main__":
    typer.run(main)
