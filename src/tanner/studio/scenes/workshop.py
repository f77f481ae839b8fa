"""The workshop, seen through a very wide lens: shelves, straight edges, lamps, instruments, a bench."""

import numpy as np

from tanner.studio.light import MATERIALS
from tanner.studio.scenes import textures
from tanner.studio.scenes.products import body_outline, wood
from tanner.studio.scenes.shapes import block, grid, lathe, plate, smooth, tube
from tanner.studio.scenes.stage import SceneStage, both_sides, gloss, matte, metal, mix, relief, texture


def _jar(rng: np.random.Generator) -> list[tuple[float, float]]:
    r, h = 3.5 + 3 * rng.random(), 8 + 10 * rng.random()
    return [
        (0.1, 0),
        (r * 0.85, 0),
        (r, h * 0.25),
        (r * 0.95, h * 0.6),
        (r * 0.55, h * 0.85),
        (r * 0.62, h),
        (r * 0.5, h),
        (0.1, h * 0.97),
    ]


def room(stage: SceneStage, width: float = 520, depth: float = 420, height: float = 290) -> None:
    """Floor boards, plastered walls, ceiling beams; the front is open behind the camera."""
    rng = np.random.default_rng(3)
    boards = textures.grain(1024, 4096, 41, 16)
    pine = mix(texture(boards, (0.25, 3.0)), gloss(MATERIALS["oak"], 0.3), gloss(MATERIALS["walnut"], 0.3))
    for k in range(int(width / 20)):
        x = -width / 2 + 20 * k + 10
        plank = block((19.7, depth + 320, 2), 0.15).moved((x, 0, -1))
        plank.places[:, 0] += rng.random()
        stage.put(plank, pine)
    rough = textures.cloud(512, 512, 8, 1.2) * 0.15 + 0.5
    plaster = relief(texture(rough.astype(np.float32), (3, 3)), 0.6, matte(MATERIALS["plaster"]))
    stage.put(block((width, 6, height), 0.2).moved((0, depth / 2 + 3, height / 2)), plaster)
    for side in (-1, 1):
        for low, high in ((-depth / 2 - 160, -70), (90, depth / 2)) if side < 0 else ((-depth / 2 - 160, depth / 2),):
            stage.put(
                block((6, high - low, height), 0.2).moved((side * (width / 2 + 3), (low + high) / 2, height / 2)),
                plaster,
            )
    for low, high in ((0, 95), (235, height)):
        stage.put(block((6, 160, high - low), 0.2).moved((-width / 2 - 3, 10, (low + high) / 2)), plaster)
    stage.put(block((width, depth + 320, 4), 0.2).moved((0, 0, height + 2)), plaster)
    beam = wood("walnut", "cherry", 17, 0.4, 12)
    for y in np.linspace(-depth / 2, depth / 2 - 40, 5):
        stage.put(block((width, 14, 18), 0.6).moved((0, y, height - 9)), beam)
    white = gloss(MATERIALS["cream"], 0.3)
    for y in (-70, -16.7, 36.7, 90):
        stage.put(block((5, 4, 140), 0.4).moved((-width / 2 - 1, y, 165)), white)
    for z in (95, 165, 235):
        stage.put(block((5, 164, 4), 0.4).moved((-width / 2 - 1, 10, z)), white)
    stage.panel((-width / 2 - 60, 10, 180), (0, 10, 150), 420, 330, 14.0)
    stage.surround(0.3)


def shelves(stage: SceneStage, x: float, y: float, wide: float, rows: int, seed: int) -> list[list[list[float]]]:
    """Boards on uprights with jars, boxes and spools. Gives back the straight edges as pairs of points."""
    rng = np.random.default_rng(seed)
    oak = wood("walnut", "oak", 51 + seed, 0.3)
    edges = []
    deep, lift, base = 30.0, 40.0, 55.0
    top = base + lift * rows
    for dx in (-wide / 2, 0, wide / 2):
        stage.put(block((3.2, deep, top), 0.2).moved((x + dx, y, top / 2)), oak)
        edges.append([[x + dx - 1.6, y - deep / 2, 4], [x + dx - 1.6, y - deep / 2, top - 2]])
    glazes = ("glaze", "clay", "cream", "slate", "moss wool", "plaster", "brass")
    for row in range(rows + 1):
        z = base + lift * row
        stage.put(block((wide, deep, 2.6), 0.2).moved((x, y, z)), oak)
        edges.append([[x - wide / 2, y - deep / 2, z + 1.3], [x + wide / 2, y - deep / 2, z + 1.3]])
        at = x - wide / 2 + 9
        while at < x + wide / 2 - 9 and row < rows:
            if abs(at - x) < 7:
                at += 8
                continue
            kind = rng.random()
            here = (at, y - 3 + 4 * rng.random(), z + 1.4)
            colour = glazes[int(rng.integers(len(glazes)))]
            if kind < 0.5:
                jar = _jar(rng)
                stage.put(
                    lathe(jar, 60).moved(here),
                    metal(MATERIALS["brass"], 0.2) if colour == "brass" else gloss(MATERIALS[colour], 0.1),
                )
                at += 2.1 * max(r for r, _ in jar) + 2
            elif kind < 0.8:
                size = (8 + 8 * rng.random(), 16, 7 + 16 * rng.random())
                stage.put(
                    block(size, 0.3).moved((here[0], here[1], here[2] + size[2] / 2)),
                    matte(MATERIALS[("paper", "ochre thread", "leather", "linen")[int(rng.integers(4))]]),
                )
                at += size[0] + 2
            else:
                thread = ("red thread", "green thread", "blue thread", "ochre thread")[int(rng.integers(4))]
                stage.put(
                    lathe([(0.1, 0), (4, 0), (4, 1), (3, 1.4), (3, 9.6), (4, 10), (4, 11), (0.1, 11)], 50).moved(here),
                    matte(MATERIALS[thread]),
                )
                at += 10
    return edges


def workshop(stage: SceneStage, turn: float) -> None:
    """turn: how far the camera stands from the middle, in centimetres."""
    room(stage)
    edges = shelves(stage, -95, 190, 240, 4, 1) + shelves(stage, 165, 190, 170, 4, 2)
    oak, cherry = wood("walnut", "oak", 77, 0.3), wood("walnut", "cherry", 33, 0.12)
    # The bench, with tools on it.
    stage.put(block((250, 75, 7), 0.5).moved((60, 20, 84)), oak)
    edges.append([[-65, -17.5, 87.5], [185, -17.5, 87.5]])
    for x in (-55, 175):
        for y in (-8, 48):
            stage.put(block((10, 10, 81), 0.4).moved((x, y, 40)), oak)
    stage.put(block((240, 60, 4), 0.3).moved((60, 20, 22)), oak)
    rng = np.random.default_rng(9)
    for _ in range(9):
        at = (-50 + 220 * rng.random(), 0 + 45 * rng.random(), 88.6)
        length, angle = 14 + 10 * rng.random(), 180 * rng.random()
        stage.put(tube(np.linspace([-length / 2, 0, 0], [0, 0, 0], 8), 1.2, 16).moved(at, angle), cherry)
        stage.put(
            block((length * 0.8, 1.4, 0.3), 0.1).moved((length * 0.4, 0, 0)).moved(at, angle),
            metal(MATERIALS["steel"], 0.15),
        )
    for _ in range(7):  # shavings
        a = np.linspace(0, 9, 60)
        curl = np.stack([1.6 * np.cos(a) * (1 + 0.05 * a), a * 0.5, 1.7 + 1.6 * np.sin(a)], 1)
        strip = np.stack([curl, curl + [0, 1.6, 0]], 1)
        place = np.stack(np.broadcast_arrays(a[:, None] / 9, np.array([[0, 0.05]])), -1)
        stage.put(
            grid(strip, place).moved((-20 + 150 * rng.random(), 5 + 30 * rng.random(), 87.5), 360 * rng.random()),
            both_sides(matte(MATERIALS["spruce"])),
        )
    # Instruments on the right wall's rail and lamps above the bench.
    stage.put(block((3, 260, 8), 0.4).moved((254, 20, 215)), oak)
    edges.append([[252.5, -110, 211], [252.5, 150, 211]])
    for k, y in enumerate((-70, -20, 30, 80)):
        outline = body_outline(1.55)
        tone = ("spruce", "ochre thread", "cherry", "spruce")[k]
        hang = lambda mesh, y=y: mesh.moved(lean=90).moved(turn=-90).moved((244, y, 150))  # noqa: E731
        stage.put(hang(plate(outline, 0.4, 0.8)), gloss(MATERIALS[tone], 0.12))
        closed = np.concatenate([outline, outline[:1]])
        rim = np.stack([np.column_stack([closed, np.full(len(closed), z)]) for z in (-7.0, 0.0)])
        stage.put(hang(grid(rim, rim[..., :2] / 50)), both_sides(cherry))
        stage.put(hang(block((4.6, 52, 2), 0.4).moved((0, 30, 0.8))), gloss(MATERIALS["leather"], 0.2))
        ring = lathe([(3.4, 1.25), (0.05, 1.25)], 40).moved((0, 2, 0))
        stage.put(hang(ring), matte(0.015))
        for s in range(4):
            stage.put(
                hang(tube(np.linspace([(s - 1.5) * 1.1, -12, 2.2], [(s - 1.5) * 0.9, 54, 2.2], 6), 0.12, 6)),
                metal(MATERIALS["steel"], 0.2),
            )
    for x, colour in ((-20, "glaze"), (60, "brass"), (140, "clay")):
        stage.put(tube(np.linspace([x, 20, 272], [x, 20, 190], 12), 0.5, 8), matte(MATERIALS["black"]))
        shade = lathe([(22, 168), (21.5, 169), (14, 184), (5, 190), (2, 193), (0.1, 193)], 90)
        coat = metal(MATERIALS["brass"], 0.2) if colour == "brass" else gloss(MATERIALS[colour], 0.08)
        stage.put(shade.moved((x, 20, 0)), both_sides(coat))
        stage.bulb((x, 20, 174), 4.5, 26.0)
    # A stool and a sheet of paper make the scale plain.
    stage.put(lathe([(0.1, 46), (17, 46), (18, 47), (18, 49), (17, 50), (0.1, 50)], 90).moved((-110, -30, 0)), cherry)
    for angle in np.radians((0, 120, 240)):
        round_ = np.array([np.cos(angle), np.sin(angle), 0])
        leg = np.linspace([-110, -30, 0] + 19 * round_, [-110, -30, 46] + 8 * round_, 8)
        stage.put(tube(leg, 1.6, 14), cherry)
    stage.put(block((30, 21, 0.05), 0.01).moved((20, 10, 87.6), 14), matte(MATERIALS["paper"]))
    stage.camera((turn, -205, 150), (turn * 0.4, 150, 128), 96)
    stage.depth = 8
    stage.truth["straight_edges"] = [stage.places(e).round(5).tolist() for e in edges]
    stage.truth["white_percentile"] = 97.0


def wall_behind(stage: SceneStage) -> None:
    """For portraits: the same plaster, and shelves far enough to be soft."""
    rough = textures.cloud(512, 512, 8, 1.2) * 0.15 + 0.5
    stage.put(
        block((700, 6, 400), 0.2).moved((0, 210, 120)),
        relief(texture(rough.astype(np.float32), (3, 3)), 0.6, matte(MATERIALS["grey wall"])),
    )
    shelves(stage, 95, 190, 170, 3, 5)
    for x, z in ((-70, 150), (-125, 175)):
        stage.put(
            lathe([(15, 0), (14.5, 1), (9, 16), (3, 20), (0.1, 20)], 60).moved((x, 150, z)),
            both_sides(metal(MATERIALS["brass"], 0.25)),
        )
        stage.put(tube(smooth(np.array([[x, 150, z + 20], [x, 150, z + 120.0]]), 6), 0.6, 8), matte(MATERIALS["black"]))
