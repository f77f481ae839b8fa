"""The workshop's products on the sweep: a table lamp and a four-string instrument, turned for each frame."""

import numpy as np
from numpy.typing import NDArray

from tanner.studio.light import MATERIALS
from tanner.studio.scenes import textures
from tanner.studio.scenes.shapes import F64, Mesh, block, cyclorama, grid, join, lathe, plate, rotation, smooth, tube
from tanner.studio.scenes.stage import Material, SceneStage, both_sides, gloss, matte, metal, mix, relief, texture


def sweep(stage: SceneStage, tone: str = "sweep", level: float = 0.0) -> None:
    """Paper hung from the wall, and two soft boxes with a weak room around them."""
    paper = textures.cloud(512, 512, 5, 0.5) * 0.12 + 0.5
    stage.put(
        cyclorama(320, -160, 120, 190, 45).moved((0, 0, level)),
        relief(texture(paper.astype(np.float32), (6, 6)), 0.02, matte(MATERIALS[tone])),
    )
    stage.behind |= set(stage.parts)
    stage.panel((-105, -70, 120), (0, 0, 22), 95, 70, 9.0)
    stage.panel((120, -40, 75), (0, 0, 25), 50, 90, 3.2)
    stage.panel((10, 40, 165), (0, 10, 10), 60, 40, 3.0, up=(0, 1, 0))
    stage.surround(0.05)


def wood(dark: str, pale: str, seed: int, rough: float = 0.14, rings: float = 28) -> Material:
    """Varnished wood of two tones, with its grain in relief."""
    mask = textures.grain(1024, 2048, seed, rings)
    shine = gloss(MATERIALS[pale], rough), gloss(MATERIALS[dark], rough)
    return relief(texture((1 - mask).astype(np.float32)), 0.03, mix(texture(mask), *shine))


def lamp(stage: SceneStage, turn: float) -> None:
    """A blue glazed foot with a painted band, a brass stem with a switch, a linen shade, a cloth cord."""
    sweep(stage)
    spin = rotation(2, turn)

    def flutes(angle: F64, height: F64) -> F64:
        deep = np.clip((height - 8.5) / 3, 0, 1) * np.clip((16.5 - height) / 3, 0, 1)
        return 1 - 0.02 * deep * (0.5 + 0.5 * np.cos(24 * angle))

    foot = [(0.1, 0), (7.4, 0), (7.6, 0.5), (7.0, 1.1), (6.4, 1.8), (7.6, 4.0), (8.6, 7.0), (8.2, 10.0), (6.2, 13.0),
            (4.0, 15.8), (3.0, 17.6), (3.0, 18.4), (2.3, 18.9)]  # fmt: skip
    band = textures.leaves(512, 4096, 12)
    height, width = 1024, 4096
    painted = np.zeros((height, width), np.float32)
    painted[height - 560 : height - 560 + 256] = band[::2]
    lines = np.zeros_like(painted)
    for y in (height - 575, height - 295):
        lines[y : y + 7] = 1
    speckle = np.clip(textures.cloud(1024, 2048, 3, 0.3) - 2.2, 0, 1)
    blue = mix(texture(speckle), gloss(MATERIALS["glaze"], 0.05), gloss(MATERIALS["slate"], 0.05))
    glaze = mix(texture(np.maximum(painted, lines)), blue, gloss(MATERIALS["cream"], 0.06))
    wavy = textures.cloud(512, 1024, 9, 1.8) * 0.1 + 0.5
    stage.thing = "foot"
    body = lathe(foot, 720, flutes)
    stage.put(body.moved(turn=turn), relief(texture(wavy.astype(np.float32)), 0.10, glaze))
    stage.thing = "stem"
    brass, dull = metal(MATERIALS["brass"], 0.09), metal(MATERIALS["brass"], 0.22)
    collar = [(0.1, 18.6), (2.7, 18.6), (2.8, 18.9), (2.5, 19.3), (1.4, 19.6), (1.1, 20.2), (0.75, 21.0), (0.7, 27.0),
              (0.7, 29.0), (1.2, 29.4), (1.2, 30.2), (1.6, 30.5), (1.6, 33.5), (1.0, 34), (0.1, 34)]  # fmt: skip
    stage.put(lathe(collar, 96).moved(turn=turn), brass)
    knurl = lathe([(0.1, 0), (0.55, 0), (0.6, 0.1), (0.6, 0.9), (0.5, 1.05), (0.1, 1.05)], 240,
                  lambda a, h: 1 + 0.05 * np.sign(np.cos(30 * a)) * ((h > 0.15) & (h < 0.85)))  # fmt: skip
    switch = Mesh(knurl.points @ rotation(1, 90).T, knurl.faces, knurl.places).moved((1.5, 0, 32), 0)
    stage.put(switch.moved(turn=turn), dull)
    for k in range(3):
        angle = 2 * np.pi * k / 3 + np.radians(turn)
        tip = np.array([11.2 * np.cos(angle), 11.2 * np.sin(angle), 43.3])
        stage.put(tube(np.linspace([0, 0, 33.6], tip, 20), 0.12), dull)
    stage.ball((0, 0, 37), 2.6, gloss(MATERIALS["white"], 0.02))
    stage.thing = "shade"
    weave, shade = textures.weave(1024, 64, 4)
    linen = mix(texture(shade, (14, 5)), matte(MATERIALS["cream"]), matte(MATERIALS["linen"]))
    outside = lathe([(15.5, 24.0), (15.4, 24.3), (11.4, 43.4), (11.35, 43.6)], 360)
    stage.put(outside.moved(turn=turn), both_sides(relief(texture(weave, (14, 5)), 0.05, linen)))
    for r, z in ((15.45, 24.15), (11.4, 43.5)):
        a = np.linspace(0, 2 * np.pi, 240)
        ring = np.stack([r * np.cos(a), r * np.sin(a), np.full_like(a, z)], 1)
        stage.put(tube(ring, 0.28), relief(texture(weave, (40, 1)), 0.03, matte(MATERIALS["ochre thread"])))
    seam = np.linspace([15.6, 0, 24.2], [11.5, 0, 43.4], 40) @ spin.T
    stage.put(tube(seam, 0.10), matte(MATERIALS["linen"]))
    stage.thing = "cord"
    bend = smooth(
        np.array([[7.2, 0, 1.0], [10, 1.5, 0.45], [15, 6, 0.35], [22, 6, 0.35], [30, -2, 0.35], [46, -4, 0.35]]), 40
    )
    cord = bend @ rotation(2, turn * 0.15 + 10).T
    braid, tint = textures.weave(256, 8, 2)
    stage.put(
        tube(cord, 0.34, 20),
        relief(
            texture(braid, (3, 24)),
            0.06,
            mix(texture(tint, (3, 24)), matte(MATERIALS["red thread"]), matte(MATERIALS["leather"])),
        ),
    )
    stage.camera((0, -185, 46), (2, 0, 21.8), 25.5, 0.55, (0, -8, 22))
    stage.truth["product"] = {"name": "lamp", "turn_degrees": turn}


def body_outline(scale: float = 1.0) -> NDArray[np.float64]:
    """Outline of the instrument's body: a pear with a waist, (N, 2), along y."""
    half = np.array([[0, -13], [4.5, -12.7], [8.2, -10.2], [9.6, -6.5], [8.8, -2.6], [6.9, 0.2], [6.0, 2.4], [6.6, 5.0],
                     [6.9, 7.2], [5.8, 9.8], [3.4, 11.3], [1.8, 11.7], [0, 11.8]], float)  # fmt: skip
    right = smooth(half, 12)
    left = right[::-1][1:-1] * [-1, 1]
    return np.concatenate([right, left]) * scale


def instrument(stage: SceneStage, turn: float) -> None:
    """Spruce top, cherry back, brass frets and a rosette; it leans against a small oak rest."""
    sweep(stage)
    up = np.array([0, 0, 14.6])

    def stand(mesh: Mesh) -> Mesh:
        # Built lying with its face up (+z) and the neck along +y; stood up, leaning back, turned.
        return mesh.moved(lean=90).moved(lean=-14).moved(up, turn)

    stage.thing = "body"
    outline = body_outline()
    depth = 4.6
    closed = np.concatenate([outline, outline[:1]])
    rim = np.stack([np.column_stack([closed, np.full(len(closed), z)]) for z in np.linspace(-depth, 0, 12)])
    length = np.linspace(0, 1.4, len(closed))
    places = np.stack(np.broadcast_arrays(length[None], np.linspace(0, 0.09, 12)[:, None]), axis=-1)
    spruce = textures.grain(2048, 1024, 21, 70, 0.3).T.copy()
    grain = texture(spruce, (4, 4), (0.13, 0))
    top = relief(grain, 0.012, mix(grain, gloss(MATERIALS["spruce"], 0.12), gloss(MATERIALS["ochre thread"], 0.12)))
    cherry = wood("walnut", "cherry", 33, 0.1, 34)
    flame = textures.grain(1024, 2048, 12, 9)
    stage.put(stand(grid(rim, places)), cherry)
    stage.put(stand(plate(outline * 1.025, 0.28, 0.55)), top)
    back = plate(outline * 1.025, 0.28, 0.6)
    stage.put(stand(Mesh(back.points * [1, 1, -1] - [0, 0, depth], back.faces[:, ::-1], back.places)),
              mix(texture(flame, (3, 3)), gloss(MATERIALS["cherry"], 0.1), gloss(MATERIALS["walnut"], 0.1)))  # fmt: skip
    for scale, r, colour in ((1.0, 0.13, "black"), (0.965, 0.05, "cream")):
        edge = np.column_stack([closed * scale, np.full(len(closed), 0.33 if scale == 1.0 else 0.4)])
        stage.put(stand(tube(edge, r, 8)), gloss(MATERIALS[colour], 0.15))
    hole, middle = 2.05, np.array([0, 1.4, 0])
    a = np.linspace(0, 2 * np.pi, 120)
    disc = [(0.0, 0.9), (hole, 0.9)]
    stage.put(stand(lathe([(0.01, disc[0][1]), *disc[1:]], 90).moved(middle)), matte(0.012))
    for r, wide, colour in (
        (2.12, 0.06, "black"),
        (2.45, 0.09, "brass"),
        (2.75, 0.05, "black"),
        (2.95, 0.07, "glaze"),
        (3.15, 0.05, "black"),
    ):
        ring = np.stack([r * np.cos(a), r * np.sin(a), np.full_like(a, 0.86)], 1) + middle
        what = metal(MATERIALS["brass"], 0.15) if colour == "brass" else gloss(MATERIALS[colour], 0.12)
        stage.put(stand(tube(ring, wide, 8)), what)
    for k in range(36):  # small leaves of the rosette
        angle = 2 * np.pi * k / 36
        leaf = block((0.10, 0.17, 0.06), 0.02).moved((0, 2.60, 0.89)).moved(turn=np.degrees(angle)).moved(middle)
        stage.put(stand(leaf), gloss(MATERIALS["cream"], 0.1))
    stage.thing = "neck"
    ebony = mix(
        texture(textures.grain(512, 1024, 8, 40)), gloss(MATERIALS["black"], 0.2), gloss(MATERIALS["leather"], 0.25)
    )
    stage.put(stand(block((3.3, 19.5, 0.55), 0.12).moved((0, 13.6, 1.15))), ebony)
    half = np.linspace(0, np.pi, 24)
    along = np.linspace(10.5, 24, 12)
    points = np.stack(
        [np.stack([1.55 * np.cos(half), np.full_like(half, y), 0.9 - 1.6 * np.sin(half)], -1) for y in along]
    )
    stage.put(
        stand(grid(points, np.stack(np.broadcast_arrays(along[:, None] / 40, half[None] / 20), -1))), both_sides(cherry)
    )
    for k in range(13):  # frets where equal temperament puts them
        y = 23.6 - 31.0 * (1 - 2 ** (-k / 12))
        stage.put(
            stand(tube(np.linspace([-1.6, y, 1.45], [1.6, y, 1.45], 8), 0.07, 10)), metal(MATERIALS["brass"], 0.1)
        )
    for k in (5, 7, 10):
        y = 23.6 - 31.0 * (1 - (2 ** (-k / 12) + 2 ** (-(k - 1) / 12)) / 2)
        stage.put(stand(lathe([(0.28, 1.44), (0.01, 1.44)], 40).moved((0, y, 0))), gloss(MATERIALS["cream"], 0.08))
    head = np.array([[1.6, 23.8], [2.6, 25.5], [2.7, 30], [1.9, 31.6], [0.7, 31.2], [0, 31.9], [-0.7, 31.2], [-1.9, 31.6],
                     [-2.7, 30], [-2.6, 25.5], [-1.6, 23.8]], float)  # fmt: skip
    stage.put(stand(plate(smooth(head, 8), 1.1).moved((0, 0, -0.2))), cherry)
    stage.put(stand(block((3.3, 0.45, 0.6), 0.1).moved((0, 23.75, 1.35))), gloss(MATERIALS["cream"], 0.1))
    stage.thing = "strings and pegs"
    brass, steel = metal(MATERIALS["brass"], 0.12), metal(MATERIALS["steel"], 0.16)
    for k, (x, y) in enumerate(((-1.75, 26.6), (-1.75, 29.2), (1.75, 29.2), (1.75, 26.6))):
        post = lathe([(0.05, 0), (0.42, 0), (0.42, 0.2), (0.28, 0.3), (0.28, 1.1), (0.05, 1.1)], 40).moved((x, y, 0.9))
        stage.put(stand(post), brass)
        side = np.sign(x)
        stage.put(stand(tube(np.linspace([x, y, 0.3], [x + side * 1.6, y, 0.3], 6), 0.16)), brass)
        stage.put(stand(block((1.0, 1.5, 0.45), 0.2).moved((x + side * 2.0, y, 0.3))), gloss(MATERIALS["cream"], 0.12))
        start = np.array([(k - 1.5) * 0.62, 23.7, 1.72])
        bridge = np.array([(k - 1.5) * 0.85, -7.4, 1.75])
        end = np.array([x + np.sign(1.75 - abs(x)) * 0, y, 1.5])
        line = np.concatenate([np.linspace(bridge, start, 30), np.linspace(start, end, 8)[1:]])
        wound = relief(
            texture(
                (np.sin(np.linspace(0, 2 * np.pi * 24, 768))[:, None] * np.ones((1, 8)) / 2 + 0.5).astype(np.float32),
                (1, 10),
            ),
            0.02,
            steel,
        )
        stage.put(stand(tube(line, (0.065, 0.05, 0.038, 0.03)[k], 10)), wound if k < 2 else steel)
    stage.put(stand(block((6.4, 1.5, 0.8), 0.25).moved((0, -7.6, 1.05))), ebony)
    stage.put(stand(block((4.2, 0.28, 0.35), 0.08).moved((0, -7.4, 1.55))), gloss(MATERIALS["cream"], 0.1))
    stage.thing = "rest"
    # The rest: two oak rails behind, a ledge before.
    oak = wood("walnut", "oak", 51, 0.3)
    behind = rotation(2, turn)
    for x in (-5.0, 5.0):
        path = np.array([[x, -1.5, 1.0], [x * 0.7, 12.5, 24.0]]) @ behind.T
        stage.put(tube(np.linspace(path[0], path[1], 10), 0.55, 20), oak)
    stage.put(block((14, 9, 1.0), 0.3).moved((0, 0.5, 0.5), turn), oak)
    stage.put(block((14, 1.0, 1.6), 0.3).moved((0, -4.2, 1.1), turn), oak)
    stage.put(join(block((11, 1, 1), 0.2).moved((0, 10.4, 20.5), turn)), oak)
    stage.camera((0, -190, 40), (0, 3, 25), 18.5, 0.5, (0, -3, 26))
    stage.truth["product"] = {"name": "instrument", "turn_degrees": turn}
