"""Proposing sets: every border has its reason, and drift within a set is none."""

from datetime import datetime, timedelta

from tanner.core.series.sets import Sighting, propose, unlikeness

START = datetime(2026, 3, 12, 9, 0)


def sighting(key: int, minute: float = 0, **more: object) -> Sighting:
    values: dict[str, object] = {
        "key": key,
        "camera": "Alder One",
        "lens": "Finch 55 mm",
        "focal_length_mm": 55.0,
        "light_mired": 182.0,
        "taken": START + timedelta(minutes=minute),
        "name": f"A{key:03d}",
        "descriptor": (),
    }
    return Sighting(**(values | more))  # type: ignore[arg-type]


def test_one_setup_is_one_set() -> None:
    frames = [sighting(n, n * 2) for n in range(8)]
    assert [p.keys for p in propose(frames)] == [tuple(range(8))]


def test_frames_are_ordered_by_time_not_as_given() -> None:
    frames = [sighting(2, 4), sighting(1, 0), sighting(3, 2)]
    assert propose(frames)[0].keys == (1, 3, 2)


def test_each_border_has_its_reason() -> None:
    frames = [
        sighting(1, 0),
        sighting(2, 1, lens="Finch 24 mm"),
        sighting(3, 2, lens="Finch 24 mm", focal_length_mm=24.0),
        sighting(4, 3, lens="Finch 24 mm", focal_length_mm=24.0, light_mired=350.0),
        sighting(5, 60, lens="Finch 24 mm", focal_length_mm=24.0, light_mired=350.0),
        sighting(6, 61, camera="Alder Two", lens="Finch 24 mm", focal_length_mm=24.0, light_mired=350.0),
    ]
    reasons = [p.reason for p in propose(frames)]
    assert [r.split(":")[0] for r in reasons] == [
        "the first frames",
        "another lens",
        "another focal length",
        "other light",
        "57 minutes later",
        "another camera",
    ]


def test_slow_drift_of_the_light_is_one_set() -> None:
    frames = [sighting(n, n, light_mired=180.0 + 12 * n) for n in range(6)]
    assert len(propose(frames)) == 1


def test_likeness_parts_unlike_pictures_and_keeps_like_ones() -> None:
    ramp = [float(i % 17) for i in range(192)]
    brighter = [v + 1.5 for v in ramp]
    other = [float((i * 7) % 31) * (1 if i % 3 else -1) for i in range(192)]
    assert unlikeness(sighting(1, descriptor=ramp), sighting(2, descriptor=ramp)) == 0
    frames = [sighting(1, 0, descriptor=ramp), sighting(2, 1, descriptor=brighter), sighting(3, 2, descriptor=other)]
    assert [p.keys for p in propose(frames)] == [(1, 2), (3,)]


def test_unknown_times_and_pictures_do_not_part_frames() -> None:
    frames = [sighting(1, taken=None), sighting(2, taken=None)]
    assert len(propose(frames)) == 1
    assert propose([]) == []
