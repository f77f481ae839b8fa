"""Masks as truth beside the scenes, against what else is known of them."""

import json
import zipfile

import cv2
import numpy as np
import pytest

from tanner.studio import pictures
from tanner.studio.bands import PICTURES
from tanner.studio.truth import scenes, truth

SHUT = "wren-blink"
PEOPLE = [n for n in scenes() if n.startswith(("wren", "rowan", "both"))]
BEHIND = "rowan-3"
PORTRAITS = [n for n in PEOPLE if n not in (BEHIND, "both-1")]


@pytest.mark.parametrize("scene", scenes())
def test_masks_have_the_scenes_size_and_things_lie_in_the_subject(scene: str) -> None:
    known = truth(scene)
    w, h = json.loads((PICTURES / f"{scene}.json").read_text())["size"]
    assert all(mask.shape == (h, w) for mask in known.values())
    subject = known["subject"]
    assert 0.02 < subject.mean() < 0.9
    for name, mask in known.items():
        assert mask.min() >= 0 and (name == "depth" or mask.max() <= 1)
        if name not in ("subject", "shadow", "depth"):
            assert (mask <= subject + 0.02).all(), name
    if "shadow" in known:
        assert known["shadow"][subject > 0.1].max() == 0 and known["shadow"].max() > 0.2


@pytest.mark.parametrize("scene", PORTRAITS)
def test_eyes_lips_and_skin_are_where_the_face_is(scene: str) -> None:
    known = truth(scene)
    face = json.loads((PICTURES / f"{scene}.json").read_text())["faces"][0]
    h, w = known["skin"].shape
    left, top, right, bottom = (round(v * s) for v, s in zip(face["box"], (w, h, w, h), strict=True))
    for part in ("lips",) if scene == SHUT else ("lips", "eyes", "iris"):
        inside = known[part][top:bottom, left:right].sum()
        assert inside > 0.99 * known[part].sum() > 0
    # The iris is of the eye; lids cover much of an eye that is shut, and no skin lies on lips' place but theirs.
    assert (known["iris"] <= known["eyes"] + 0.02).all() and (known["lips"] <= known["skin"] + 0.02).all()
    picture = pictures.planes(scene)
    skin, cloth = (picture[:, known[k] > 0.9].mean(axis=1) for k in ("skin", "cloth"))
    assert skin[5] / skin[1] > 1.15 * cloth[5] / cloth[1]  # skin is redder than wool


def test_two_people_have_two_faces_and_one_from_behind_has_none() -> None:
    faces = {n: json.loads((PICTURES / f"{n}.json").read_text())["faces"] for n in ("both-1", BEHIND)}
    assert faces[BEHIND] == [] and len(faces["both-1"]) == 2
    known = truth("both-1")
    h, w = known["skin"].shape
    left, right = sorted(faces["both-1"], key=lambda f: f["box"][0])
    assert left["box"][2] < right["box"][0]
    for face in (left, right):
        x0, y0, x1, y1 = (round(v * s) for v, s in zip(face["box"], (w, h, w, h), strict=True))
        assert known["lips"][y0:y1, x0:x1].sum() > 100 and known["iris"][y0:y1, x0:x1].sum() > 20
    assert not any(k in truth(BEHIND) and truth(BEHIND)[k].sum() > 5 for k in ("lips", "iris"))


@pytest.mark.parametrize("scene", PEOPLE)
def test_the_person_is_nearer_than_the_wall(scene: str) -> None:
    known = truth(scene)
    assert np.median(known["depth"][known["subject"] > 0.9]) < np.percentile(known["depth"][known["subject"] < 0.1], 20)


def discs(scene: str, kind: str, shape: tuple[int, int], larger: float) -> np.ndarray:
    """Places within so many radii of what the scene's file tells."""
    h, w = shape
    y, x = np.mgrid[0:h, 0:w]
    found = np.zeros(shape, bool)
    for spot in json.loads((PICTURES / f"{scene}.json").read_text())["spots"]:
        if spot["kind"] == kind:
            cx, cy, r = spot["place"][0] * w, spot["place"][1] * h, spot["radius"] * max(w, h)
            found |= np.hypot(x + 0.5 - cx, y + 0.5 - cy) < larger * r
    return found


def test_blemishes_are_all_that_differs_from_the_clear_picture() -> None:
    """Told where they are, red, and nowhere else on the skin."""
    spotted, clear = (pictures.planes(n) for n in ("wren-6", "wren-6-clear"))
    skin = truth("wren-6")["skin"] > 0.95
    inside, around = (discs("wren-6", "blemish", skin.shape, k) for k in (0.8, 4.0))
    assert sum(s["kind"] == "blemish" for s in json.loads((PICTURES / "wren-6.json").read_text())["spots"]) >= 8
    ratio = spotted / np.maximum(clear, 1e-3)
    green, red = ratio[2], ratio[5]
    assert green[inside & skin].mean() < 0.9 and red[inside & skin].mean() > green[inside & skin].mean() + 0.03
    rest = skin & ~around
    assert abs(green[rest].mean() - 1) < 0.01 and np.abs(green[rest] - 1).mean() < 0.03


def test_glasses_are_apart_from_skin_and_cloth() -> None:
    known = truth("wren-5")
    assert 0.001 < known["glasses"].mean() < 0.02
    assert (known["glasses"] + known["cloth"] + known["skin"] < 1.05).all()


@pytest.mark.parametrize("scene", scenes())
def test_depth_is_at_full_size_and_of_one_side_at_edges(scene: str) -> None:
    """Against the coarse depth that blur is made from, which the renderer averaged over several samples a px."""
    far = truth(scene)["depth"]
    with np.load(PICTURES / f"{scene}.depth.npz") as stored:
        coarse = stored["centimetres"].astype(np.float32)
    h, w = (n // c for n, c in zip(far.shape, coarse.shape, strict=True))
    near = far[: coarse.shape[0] * h : h, : coarse.shape[1] * w : w]
    there = (coarse > 1) & (near > 0)
    with zipfile.ZipFile(PICTURES / f"{scene}.masks.zip") as archive:
        full = "depth.png" in archive.namelist()
    assert there.mean() > 0.5 and np.median(np.abs(near - coarse)[there]) < (0.5 if full else 2)
    if not full:
        return  # of every eighth px, enlarged
    low, high = (f(far, np.ones((3, 3))) for f in (cv2.erode, cv2.dilate))
    edge = (high - low > 15) & (low > 0)
    share = (far - low)[edge] / (high - low)[edge]
    # A table top has nothing on it that stands out.
    assert scene == "table-top" or (edge.sum() > 100 and ((share > 0.3) & (share < 0.7)).mean() < 0.02)


@pytest.mark.parametrize("scene", [n for n in PORTRAITS if "brows" in truth(n)])
def test_brows_are_hair_above_the_eyes_and_darker_than_skin(scene: str) -> None:
    known = truth(scene)
    brows, face = known["brows"], json.loads((PICTURES / f"{scene}.json").read_text())["faces"][0]
    rows, columns = np.nonzero(brows > 0.5)
    h, w = brows.shape
    # Lashes are hair as well: brows lie above them, within the face.
    assert 0 < brows.sum() < 0.2 * known["skin"].sum() and (brows <= known["hair"] + 0.02).all()
    assert rows.max() < min(e[1] for e in face["eyes"]) * h
    assert columns.min() > face["box"][0] * w - 2 and columns.max() < face["box"][2] * w + 2
    light = pictures.planes(scene).mean(axis=0)
    assert light[brows > 0.8].mean() < 0.6 * light[known["skin"] > 0.9].mean()
