"""Trains the network, or goes on where it was left: `python -m training.train [--minutes N] [--threads N]`.

The state (weights, optimiser, steps) is kept in build/train/state.pt every few minutes, the log (steps, data, figures) in
core/noise/network.json, and the weights beside it in network.npz; training/network.onnx holds them in an open form. Without the state, training goes on from these weights.
"""

import argparse
import json
import math
import multiprocessing
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import torch
from torch.nn import functional

from tanner.core import noise
from tanner.core.noise.coding import FLOOR, INPUTS, coded, guess, planes
from training.network import Network
from training.pictures import SIZE, calm, picture

STATE = Path("build/train/state.pt")
OUT = Path(noise.__file__).parent
WEIGHTS, ONNX = OUT / "network.npz", Path(__file__).parent / "network.onnx"
POOL = Path("build/train/pool.npy")
LIVELY = 800
"""So many pictures are full of things; those after them are calm."""
PATCH, BATCH = 96, 12
ROUNDS = (
    (0, 23_500, 8e-4),
    (19_660, 25_000, 4e-4),
    (25_000, 30_000, 4e-4),
    (30_000, 37_000, 5e-4),
    (37_000, 51_000, 5e-4),
)
"""Steps from and to, and the learning rate, which falls to nothing in each. The second round brought in the calm pictures,
the third strong colours, the fourth and the fifth two more blocks each at the smallest scale."""
SEED = 20_261_125


def pool(count: int, workers: int) -> np.ndarray:
    """Pictures (count, SIZE, SIZE, 3) float16: procedural ones, and every sixth a crop from our own rendered scenes.

    A pool that is there already is made longer only.
    """
    kept = np.load(POOL) if POOL.exists() else np.empty((0, SIZE, SIZE, 3), np.float16)
    if len(kept) < count:
        POOL.parent.mkdir(parents=True, exist_ok=True)
        made = np.empty((count, SIZE, SIZE, 3), np.float16)
        made[: len(kept)] = kept
        numbers = range(len(kept), count)
        with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("spawn")) as executor:
            drawn = [n for n in numbers if n % 6 != 5]
            for n, image in zip(drawn, executor.map(_drawn, drawn, chunksize=8), strict=True):
                made[n] = image
                if n % 50 == 49:
                    print(f"pictures {n + 1} of {count}", flush=True)
        for n, image in _scene_crops([n for n in numbers if n % 6 == 5]):
            made[n] = image
        np.save(POOL.with_suffix(".part.npy"), made)
        POOL.with_suffix(".part.npy").replace(POOL)
    return np.load(POOL, mmap_mode="r")[:count]


def _drawn(n: int) -> np.ndarray:
    return (picture if n < LIVELY else calm)(SEED + n).astype(np.float16)


def _scene_crops(numbers: list[int]) -> Iterator[tuple[int, np.ndarray]]:
    from tanner.studio import bands, light, pictures

    names = pictures.names()
    weights = bands.weights(light.sensitivities("Alder One"), light.light(5500)).astype(np.float32)
    for which, name in enumerate(names):
        own = [n for n in numbers if (n // 6) % len(names) == which]
        if not own:
            continue
        scene = np.moveaxis(pictures.planes(name), 0, -1) @ weights.T
        scene /= scene.reshape(-1, 3).mean(axis=0) / scene.mean()
        for n in own:
            rng = np.random.default_rng(SEED + n)
            step = int(rng.choice([k for k in (1, 1, 2, 3) if k * SIZE <= min(scene.shape[:2])]))
            y, x = (int(rng.integers(0, length - SIZE * step + 1)) for length in scene.shape[:2])
            crop = scene[y : y + SIZE * step, x : x + SIZE * step]
            crop = crop.reshape(SIZE, step, SIZE, step, 3).mean(axis=(1, 3))
            yield n, np.clip(crop / max(float(np.percentile(crop, 99)), 1e-3), 0, 4)


def rate_at(step: int) -> float:
    """The learning rate: in each round it rises over some steps and falls to nothing."""
    first, last, rate = next(r for r in reversed(ROUNDS) if step >= r[0])
    return rate * min(1.0, (step - first + 1) / 500) * (0.5 + 0.5 * math.cos(math.pi * (step - first) / (last - first)))


def batch(
    pictures: np.ndarray, which: np.ndarray, rng: np.random.Generator, size: int, patch: int
) -> tuple[torch.Tensor, torch.Tensor, torch.Tensor]:
    """Inputs (N, 17, h, w), first guesses and truths (N, 12, h, w): random crops through the simulated sensor."""
    ins, firsts, truths = [], [], []
    for _ in range(size):
        image = pictures[rng.choice(which)]
        y, x = rng.integers(0, SIZE - patch, 2)
        crop = image[y : y + patch, x : x + patch].astype(np.float32)
        if rng.random() < 0.5:
            crop = crop[:, ::-1]
        crop = np.rot90(crop, int(rng.integers(4)))[..., rng.permutation(3)]
        if rng.random() < 0.4:
            # Strong colours, up to those whose weakest part is nothing.
            grey = crop.mean(axis=2, keepdims=True)
            crop = np.maximum(grey + np.float32(rng.uniform(0.5, 2.5)) * (crop - grey), 0)
        if rng.random() < 0.25:
            # Things of one colour in coloured light: a channel or two with hardly anything.
            crop = crop * np.exp(-np.abs(rng.normal(0, 1.5, 3)) * (rng.random(3) < 0.6)).astype(np.float32)
        crop = crop * np.exp(rng.normal(0, 0.12, 3)).astype(np.float32) * np.float32(np.exp(rng.normal(0, 0.35)))
        balance = np.array([rng.uniform(0.35, 0.9), 1.0, rng.uniform(0.35, 0.9)], np.float32)
        # Most crops are noisy ones, which are harder; the others keep it honest where there is hardly any noise.
        least, most = (70, 2_500) if rng.random() < 0.75 else (2_500, 40_000)
        electrons = float(np.exp(rng.uniform(math.log(least), math.log(most))))
        read = float(rng.uniform(1.0, 7.0))
        raw = np.minimum(crop * balance, 1.0)  # what the sensor would count without noise, clipped at its well
        mosaic = np.stack([raw[0::2, 0::2, 0], raw[0::2, 1::2, 1], raw[1::2, 0::2, 1], raw[1::2, 1::2, 2]])
        counted = rng.poisson(mosaic * electrons) + rng.normal(0, read, mosaic.shape)
        noisy = (counted / electrons).astype(np.float32)
        if rng.random() < 0.3:
            # Hot and dead pixels.
            hot = rng.random(mosaic.shape) < rng.uniform(0, 1e-3)
            noisy = np.where(hot, rng.uniform(0, 1.2, mosaic.shape), noisy).astype(np.float32)
        step = 1 / float(rng.choice([4095, 16383]))
        noisy = np.minimum(np.rint(noisy / step) * step, 1.0)
        gains = (1 / balance)[[0, 1, 1, 2]]
        a, b = (gains / electrons).astype(np.float32), ((read / electrons) ** 2 * gains**2).astype(np.float32)
        values = noisy * gains[:, None, None]
        ins.append(planes(values, a, b, gains))
        firsts.append(guess(coded(values)))
        clean = np.sqrt(np.minimum(crop, 1 / balance) + FLOOR)
        truths.append(
            np.concatenate([np.moveaxis(clean[dy::2, dx::2], -1, 0) for dy, dx in ((0, 0), (0, 1), (1, 0), (1, 1))])
        )
    return tuple(torch.from_numpy(np.ascontiguousarray(np.stack(v), dtype=np.float32)) for v in (ins, firsts, truths))  # type: ignore[return-value]


def loss_of(found: torch.Tensor, truth: torch.Tensor) -> torch.Tensor:
    """Coded values as the eye weighs them, and the logarithm of each crop's linear error: dark crops count as bright ones do."""
    error = ((found * found.abs() - truth * truth) ** 2).mean(dim=(1, 2, 3))
    return functional.l1_loss(found, truth) + 0.03 * torch.log(error + 1e-7).mean()


def figures(net: torch.nn.Module, pictures: np.ndarray) -> dict[str, float]:
    """PSNR in linear light over pictures that are not trained on, at fixed noise."""
    net.eval()
    rng = np.random.default_rng(7)
    errors, before = [], []
    with torch.no_grad():
        for _ in range(6):
            x, first, truth = batch(pictures, np.arange(len(pictures)), rng, 8, 128)
            found = (first + net(x)).clamp(0, 2) ** 2
            errors.append(((found - truth**2) ** 2).mean().item())
            before.append(((first**2 - truth**2) ** 2).mean().item())
    net.train()
    return {
        "psnr": round(-10 * math.log10(np.mean(errors)), 3),
        "psnr_first_guess": round(-10 * math.log10(np.mean(before)), 3),
    }


def export(net: torch.nn.Module, log: dict) -> None:  # type: ignore[type-arg]
    """The weights for the application in half precision, and the same network as ONNX, for others and for the tests."""
    import io

    import onnx
    from onnx import helper, numpy_helper

    net.eval()
    kept = {name: values.numpy().astype(np.float16) for name, values in net.state_dict().items()}
    buffer = io.BytesIO()
    torch.onnx.export(
        net,
        (torch.zeros(1, INPUTS, 64, 64),),
        buffer,
        input_names=["planes"],
        output_names=["residual"],
        dynamic_axes={"planes": {2: "h", 3: "w"}, "residual": {2: "h", 3: "w"}},
        opset_version=17,
        dynamo=False,
    )
    net.train()
    model = onnx.load_from_string(buffer.getvalue())
    casts = []
    for weight in model.graph.initializer:
        values = numpy_helper.to_array(weight)
        if values.dtype != np.float32:
            continue
        name = weight.name
        weight.CopyFrom(numpy_helper.from_array(values.astype(np.float16), f"{name}.half"))
        casts.append(helper.make_node("Cast", [f"{name}.half"], [name], to=onnx.TensorProto.FLOAT))
    nodes = [*casts, *model.graph.node]
    del model.graph.node[:]
    model.graph.node.extend(nodes)
    ONNX.write_bytes(model.SerializeToString())
    np.savez(WEIGHTS, **kept)
    (OUT / "network.json").write_text(json.dumps(log, indent=1) + "\n")


def from_weights(net: torch.nn.Module) -> dict | None:  # type: ignore[type-arg]
    """Go on from the weights that ship, where no state is kept: the log they came with, or None."""
    if not WEIGHTS.exists():
        return None
    with np.load(WEIGHTS) as weights:
        kept = dict(weights)
    own = net.state_dict()
    if not all(name in own and kept[name].shape == tuple(own[name].shape) for name in kept):
        return None
    for name in own.keys() - kept.keys():
        # A block that the network did not have begins as one that changes nothing.
        kept[name] = own[name].numpy() * (".a." in name)
    net.load_state_dict({name: torch.from_numpy(kept[name].astype(np.float32)) for name in own})
    return json.loads((OUT / "network.json").read_text())


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=240)
    parser.add_argument("--threads", type=int, default=2)
    parser.add_argument("--pictures", type=int, default=1500)
    parser.add_argument("--compile", action="store_true", help="a seventh faster; needs a C++ compiler")
    options = parser.parse_args()
    torch.set_num_threads(options.threads)
    torch.manual_seed(SEED)
    # What has all but vanished (moments of channels that are seldom used) would take several times as long.
    torch.set_flush_denormal(True)
    pictures = pool(options.pictures, options.threads)
    # Held back: the last of the lively and of the calm ones.
    apart = [*range(LIVELY - 60, LIVELY), *range(len(pictures) - 60, len(pictures))]
    held = pictures[apart]
    trained = np.setdiff1d(np.arange(len(pictures)), apart)
    net = Network().to(memory_format=torch.channels_last)
    optimiser = torch.optim.Adam(net.parameters())
    average = _average(net)
    log: dict = {"steps": 0, "seconds": 0.0, "data": f"{options.pictures} pictures of {SIZE} px, a sixth from rendered scenes",
                 "patch": PATCH, "batch": BATCH, "parameters": sum(p.numel() for p in net.parameters()), "history": []}  # fmt: skip
    if STATE.exists():
        state = torch.load(STATE, weights_only=False)
        net.load_state_dict(state["net"])
        optimiser.load_state_dict(state["optimiser"])
        average.load_state_dict(state["average"])
        log = state["log"]
        print(f"going on at step {log['steps']}", flush=True)
    elif shipped := from_weights(net):
        log = shipped
        average = _average(net)
        print(f"going on from the weights that ship, at step {log['steps']}", flush=True)
    log["data"] = f"{options.pictures} pictures of {SIZE} px, a sixth from rendered scenes"
    log["parameters"] = sum(p.numel() for p in net.parameters())
    rng = np.random.default_rng(SEED + log["steps"])
    began = kept = time.time()
    total, count = 0.0, 0
    step_of = torch.compile(net) if options.compile else net
    ahead = ThreadPoolExecutor(1)
    coming = ahead.submit(batch, pictures, trained, rng, BATCH, PATCH)
    while time.time() - began < options.minutes * 60 and log["steps"] < ROUNDS[-1][1]:
        step = log["steps"]
        for group in optimiser.param_groups:
            group["lr"] = rate_at(step)
        x, first, truth = coming.result()
        coming = ahead.submit(batch, pictures, trained, rng, BATCH, PATCH)  # the next one is drawn meanwhile
        found = first + step_of(x.to(memory_format=torch.channels_last))
        loss = loss_of(found, truth)
        optimiser.zero_grad()
        loss.backward()
        torch.nn.utils.clip_grad_norm_(net.parameters(), 1.0)
        optimiser.step()
        average.update_parameters(net)
        total, count = total + loss.item(), count + 1
        log["steps"] += 1
        if time.time() - kept > 240:
            log["seconds"] = round(log["seconds"] + time.time() - kept, 1)
            kept = time.time()
            note = {"step": log["steps"], "loss": round(total / count, 5), **figures(average.module, held)}
            log["history"] = [*log["history"], note]
            total, count = 0.0, 0
            print(note, flush=True)
            save(net, optimiser, average, log)
    log["seconds"] = round(log["seconds"] + time.time() - kept, 1)
    save(net, optimiser, average, log)


def _average(net: torch.nn.Module) -> torch.optim.swa_utils.AveragedModel:
    """A running mean of the weights, which errs less than the last ones."""
    return torch.optim.swa_utils.AveragedModel(net, multi_avg_fn=torch.optim.swa_utils.get_ema_multi_avg_fn(0.999))


def save(net, optimiser, average, log) -> None:  # type: ignore[no-untyped-def]
    parts = {"net": net.state_dict(), "optimiser": optimiser.state_dict(), "average": average.state_dict(), "log": log}
    torch.save(parts, STATE.with_suffix(".part"))
    STATE.with_suffix(".part").replace(STATE)
    export(average.module, log)


if __name__ == "__main__":
    main()
