"""Still pictures: the colour chart, a close detail, and a table top with dust and scratches."""

import cv2
import numpy as np

from tanner.studio import light
from tanner.studio.light import MATERIALS
from tanner.studio.scenes import textures
from tanner.studio.scenes.products import sweep, wood
from tanner.studio.scenes.shapes import Mesh, block, grid, lathe, smooth, tube
from tanner.studio.scenes.stage import SceneStage, gloss, matte, metal, mix, relief, texture


def _card(width: float, height: float, middle: tuple[float, float], z: float) -> Mesh:
    x, y = np.meshgrid(np.linspace(-0.5, 0.5, 2) * width + middle[0], np.linspace(-0.5, 0.5, 2) * height + middle[1])
    points = np.stack([x, y, np.full_like(x, z)], axis=-1)
    u, v = np.meshgrid([0.0, 1.0], [0.0, 1.0])
    return grid(points, np.stack([u, v], axis=-1))


def chart(stage: SceneStage, turn: float) -> None:
    """The 24 patches with their published reflectances, in a black frame, with a grey card beside it."""
    sweep(stage)
    lean = 78.0

    def stand(mesh: Mesh, x: float, z: float) -> Mesh:
        return mesh.moved(lean=lean).moved((x, 0, z), turn)

    step, size, x0, z0 = 4.15, 3.7, -5.0, 10.4
    width, height = 6 * step + 1.2, 4 * step + 1.2
    stage.thing = "chart"
    board = block((width + 1.6, height + 1.6, 0.5), 0.12).moved((0, 0, -0.27))
    stage.put(stand(board, x0, z0), gloss(0.035, 0.35))
    corners = []
    for k, (name, reflectance) in enumerate(light.chart().items()):
        column, row = k % 6, k // 6
        middle = ((column - 2.5) * step, (1.5 - row) * step)
        stage.put(stand(_card(size, size, middle, 0.02), x0, z0), matte(np.clip(reflectance, 0, 1)))
        edge = size / 2
        square = np.array([[-edge, edge, 0], [edge, edge, 0], [edge, -edge, 0], [-edge, -edge, 0]]) + [*middle, 0.02]
        placed = stand(Mesh(square, np.zeros((0, 3), int), np.zeros((4, 2))), x0, z0).points
        corners.append((name, placed))
    stage.thing = "grey card"
    grey = block((11, 15, 0.4), 0.1)
    stage.put(stand(grey, 17.5, 9.2), matte(0.18))
    card = stand(Mesh(np.array([[-5, 7, 0.21], [5, 7, 0.21], [5, -7, 0.21], [-5, -7, 0.21]], float), np.zeros((0, 3), int), np.zeros((4, 2))), 17.5, 9.2)  # fmt: skip
    stage.thing = "stands"
    oak = wood("walnut", "oak", 51, 0.3)
    stage.put(block((34, 5, 1.6), 0.3).moved((x0, 0, 0.8), turn), oak)
    stage.put(block((34, 1.0, 2.4), 0.3).moved((x0, -2.2, 1.2), turn), oak)
    stage.put(block((13, 5, 1.6), 0.3).moved((17.5, 0, 0.8), turn), oak)
    stage.put(block((13, 1.0, 2.4), 0.3).moved((17.5, -2.2, 1.2), turn), oak)
    stage.camera((0, -150, 26), (1, 0, 11.0), 20, 0.3, (0, 0, 11))
    stage.truth["chart"] = [{"patch": n, "corners": stage.places(c).round(5).tolist()} for n, c in corners]
    stage.truth["grey_card"] = stage.places(card.points).round(5).tolist()


def _spool(stage: SceneStage, at: tuple[float, float], colour: str, height: float = 5.4) -> None:
    cherry = wood("walnut", "cherry", 33, 0.15)
    for z in (0.0, height):
        rim = [(0.1, z), (1.95, z), (2.05, z + 0.12), (2.05, z + 0.5), (1.95, z + 0.62), (0.1, z + 0.62)]
        stage.put(lathe(rim, 120).moved((*at, 0)), cherry)
    stage.put(
        lathe([(0.42, height + 0.63), (0.42, height + 0.2), (0.01, height + 0.2)], 40).moved((*at, 0)), matte(0.02)
    )
    rows = int((height - 0.7) / 0.062)
    rng = np.random.default_rng(len(colour))
    angle = np.linspace(0, 2 * np.pi * rows, rows * 48)
    z = 0.66 + (height - 0.72) * angle / angle[-1]
    r = 1.62 + 0.025 * np.sin(angle * 0.37) + 0.012 * rng.standard_normal(len(angle)).cumsum() / np.sqrt(len(angle))
    path = np.stack([at[0] + r * np.cos(angle), at[1] + r * np.sin(angle), z], 1)
    twist = (
        np.sin(np.linspace(0, 2 * np.pi * 8, 256))[:, None] + np.sin(np.linspace(0, 4 * np.pi, 16))[None]
    ) / 4 + 0.5
    thread = relief(texture(twist.astype(np.float32), (2, 10)), 0.01, gloss(MATERIALS[colour], 0.35))
    stage.put(tube(path, 0.036, 8), thread)
    loose = smooth(np.array([[at[0] + 1.6, at[1] - 0.3, 2.2], [at[0] + 2.6, at[1] - 1.6, 0.6], [at[0] + 3.5, at[1] - 3.4, 0.08],
                             [at[0] + 2.2, at[1] - 5.4, 0.06], [at[0] + 4.6, at[1] - 6.6, 0.06]]), 30)  # fmt: skip
    stage.put(tube(loose, 0.036, 8), thread)


def detail(stage: SceneStage, turn: float) -> None:
    """Close: wound threads, oak grain, an engraved brass plate, woven linen."""
    sweep(stage, "slate", -3.0)
    board = textures.grain(2048, 4096, 71, 44, 0.8)
    look = mix(texture(board), gloss(MATERIALS["oak"], 0.25), gloss(MATERIALS["walnut"], 0.3))
    stage.put(
        block((40, 26, 2), 0.3).moved((0, 2, -1.0), 6), relief(texture((1 - board).astype(np.float32)), 0.04, look)
    )
    stage.behind |= set(stage.parts)
    stage.thing = "spools"
    for at, colour in (
        ((-5.6, 4.4), "red thread"),
        ((-0.9, 5.4), "ochre thread"),
        ((3.7, 4.6), "blue thread"),
        ((-3.4, 8.8), "green thread"),
    ):
        _spool(stage, at, colour)
    stage.thing = "plate"
    cut = textures.lettering(1200, 2000, [("ALDER & FINCH", 0.17), ("lamps and strings", 0.12), ("No. 47", 0.10)])
    brushed = textures.cloud(512, 2048, 3, 0.4, 40) * 0.06
    height = (1 - cut) * 0.8 + cv2.resize(brushed, (2000, 1200))
    plate = metal(MATERIALS["brass"], 0.2)
    dark = metal(MATERIALS["walnut"], 0.3)
    engraved = relief(texture(height.astype(np.float32)), 0.012, mix(texture(cut), plate, dark))
    stage.put(block((8.0, 4.8, 0.22), 0.08).moved((-4.6, -2.6, 0.11), 12), plate)
    stage.put(_card(7.7, 4.5, (0, 0), 0.225).moved((-4.6, -2.6, 0), 12), engraved)
    stage.thing = "cloth"
    weave, shade = textures.weave(1024, 40, 6)
    x, y = np.meshgrid(np.linspace(-6, 6, 160), np.linspace(-5, 5, 140))
    fold = (
        0.12
        + 0.5 * np.exp(-((x * 0.8 + y * 0.5 - 1.2) ** 2) / 0.9)
        + 0.25 * np.exp(-((x * 0.7 - y * 0.7 + 2.0) ** 2) / 0.6)
    )
    cloth = grid(np.stack([x, y, fold], -1), np.stack([x / 12 + 0.5, y / 12 + 0.5], -1)).moved((6.6, -2.2, 0), -14)
    linen = mix(texture(shade, (9, 9)), matte(MATERIALS["cream"]), matte(MATERIALS["linen"]))
    stage.put(cloth, relief(texture(weave, (9, 9)), 0.04, {"type": "twosided", "of": linen}))
    stage.camera((turn, -36, 24), (0.4, 1.2, 1.9), 35, 0.28, (-2.5, -1.0, 0.8))


def detail_deep(stage: SceneStage, turn: float) -> None:
    """The same, sharp from the front to the back: the simulated lens puts its own focus in."""
    detail(stage, turn)
    stage.camera((turn, -36, 24), (0.4, 1.2, 1.9), 35, 0.0, (-2.5, -1.0, 0.8))


def table_top(stage: SceneStage, turn: float) -> None:
    """A lacquered case and a tuning fork on dark walnut, with dust, lint and scratches at fixed places."""
    sweep(stage, "slate", -3.0)
    planks = textures.grain(2048, 4096, 91, 26)
    worn, _ = textures.scratches(4096, 34, 12)
    dry = mix(texture(planks), gloss(MATERIALS["walnut"], 0.13), gloss(MATERIALS["leather"], 0.15))
    stage.put(
        block((130, 80, 3), 0.4).moved((0, 10, -1.5)), mix(texture(worn, (0.8, 0.8)), dry, matte(MATERIALS["cherry"]))
    )
    stage.behind |= set(stage.parts)
    stage.thing = "case"
    case = gloss(0.018, 0.03)
    hairline, _ = textures.scratches(4096, 12, 33)
    lid = mix(texture(hairline, (4.0, 4.0)), case, matte(0.22))
    stage.put(block((23, 15, 7), 0.8).moved((-3, 4, 3.5), 18), lid)
    stage.put(block((3.2, 0.5, 1.8), 0.15).moved((0, -7.6, 4.2)).moved((-3, 4, 0), 18), metal(MATERIALS["brass"], 0.12))
    stage.thing = "fork"
    steel = metal(MATERIALS["steel"], 0.07)
    half = np.linspace(np.pi, 2 * np.pi, 24)
    fork = np.concatenate([np.stack([np.linspace(11, 1.1, 20), np.full(20, 1.1)], 1)[:-1],
                           np.stack([1.1 * np.sin(half) + 0.0, -1.1 * np.cos(half)], 1),
                           np.stack([np.linspace(1.1, 11, 20), np.full(20, -1.1)], 1)[1:]])  # fmt: skip
    line = np.column_stack([fork, np.full(len(fork), 0.36)])
    stem = np.stack([np.linspace(-1.0, -6.0, 12), np.zeros(12), np.full(12, 0.36)], 1)
    for path in (line, stem):
        stage.put(tube(path, 0.36, 24).moved((14, -3, 0), -34), steel)
    stage.thing = "specks"
    rng = np.random.default_rng(77)
    spots = []
    pale = matte(MATERIALS["plaster"])
    for k in range(90):  # specks on the lid and on the table
        on_lid = k < 34
        if on_lid:
            u, v = (rng.random(2) - 0.5) * [21, 13]
            here = np.array([u, v, 0]) @ _turned(18) + [-3, 4, 7.02]
        else:
            here = np.array([(rng.random() - 0.5) * 56, (rng.random() - 0.62) * 34, 0.02])
            if abs(here[0] + 3) < 14 and abs(here[1] - 4) < 10:
                continue
        r = 0.02 + 0.05 * rng.random() ** 3
        stage.ball(here, r, pale)
        spots.append({"kind": "speck", "at": here, "radius": r})
    for k in range(16):  # lint
        on_lid = k < 7
        start = (
            (np.array([*(rng.random(2) - 0.5) * [18, 10], 0]) @ _turned(18) + [-3, 4, 7.04])
            if on_lid
            else np.array([(rng.random() - 0.5) * 50, -14 + 9 * rng.random(), 0.04])
        )
        heading = rng.random() * 6.3 + np.cumsum(rng.standard_normal(14) * 0.35)
        line = start + np.cumsum(np.stack([np.cos(heading), np.sin(heading), np.zeros(14)], 1), 0) * (
            0.06 + 0.08 * rng.random()
        )
        stage.put(tube(smooth(line, 4), 0.018, 6), pale)
        spots.append({"kind": "lint", "at": line.mean(0), "radius": float(np.ptp(line, axis=0).max() / 2)})
    stage.camera((turn, -62, 48), (1.5, 1.0, 1.5), 33, 0.4, (0, -2, 4))
    stage.truth["white_target"] = 0.5
    places = stage.places(np.array([s["at"] for s in spots]))
    edges = stage.places(np.array([s["at"] for s in spots]) + np.array([[s["radius"], 0, 0] for s in spots]))
    stage.truth["spots"] = [
        {"kind": s["kind"], "place": p.round(5).tolist(), "radius": round(float(abs(e[0] - p[0])), 5)}
        for s, p, e in zip(spots, places, edges, strict=True)
    ]


def _turned(degrees: float) -> np.ndarray:
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.array([[c, s, 0], [-s, c, 0], [0, 0, 1.0]])
