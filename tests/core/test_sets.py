"""Proposing sets: every border has its reason, and drift within a set is none."""

from datetime import datetime, timedelta

import pytest

from tanner.core.series.sets import SetLimits, Sighting, brackets, exposure_ev, propose, unlikeness

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


def test_exposure_values_are_those_of_the_standard() -> None:
    """ISO 2720: f/1 and 1 s at ISO 100 are 0; the sunny 16 rule is about 15 (handbook value)."""
    assert exposure_ev(1.0, 1.0, 100) == 0
    assert exposure_ev(16.0, 1 / 125, 100) == pytest.approx(15, abs=0.05)
    assert exposure_ev(16.0, 1 / 125, 200) == pytest.approx(14, abs=0.05)
    assert exposure_ev(None, 1.0, 100) is None and exposure_ev(8.0, 0.0, 100) is None


def test_exposure_orientation_and_limits_part_frames() -> None:
    frames = [
        sighting(1, 0, exposure_ev=12.0, upright=False),
        sighting(2, 1, exposure_ev=11.0, upright=False),
        sighting(3, 2, exposure_ev=7.0, upright=False),
        sighting(4, 3, exposure_ev=7.0, upright=True),
    ]
    assert [p.reason for p in propose(frames)] == ["the first frames", "exposed 4.0 EV longer", "held upright"]
    assert [p.keys for p in propose(frames, SetLimits(ev=5.0, turned=False))] == [(1, 2, 3, 4)]
    assert len(propose(frames, SetLimits(minutes=0.5))) == 4


def bracket(first: int, minute: float, values: list[float]) -> list[Sighting]:
    return [
        sighting(first + n, minute + n / 30, exposure_ev=ev, descriptor=[20.0 * n + i % 5 for i in range(192)])
        for n, ev in enumerate(values)
    ]


def test_brackets_are_recognised_and_stay_together() -> None:
    """Two seconds apart, no two exposed alike, however bright the pictures are."""
    frames = [
        *bracket(1, 0, [12.0, 14.0, 10.0]),
        *bracket(4, 1, [12.0, 14.0, 10.0]),
        sighting(7, 2, exposure_ev=12.0, descriptor=[float(i % 5) for i in range(192)]),
    ]
    assert brackets(frames) == {1: (1, 3), 2: (2, 3), 3: (3, 3), 4: (1, 3), 5: (2, 3), 6: (3, 3)}
    assert [p.keys for p in propose(frames)] == [(1, 2, 3, 4, 5, 6, 7)]
    # A burst at one exposure, and two frames only, are none.
    assert brackets(bracket(1, 0, [12.0, 12.0, 12.0])) == {} and brackets(bracket(1, 0, [12.0, 14.0])) == {}
    assert brackets([sighting(n, n, exposure_ev=10.0 + n) for n in range(4)]) == {}
    assert max(c for _, c in brackets(bracket(1, 0, [8.0 + 0.5 * n for n in range(12)])).values()) == 9


def test_a_chart_goes_with_what_was_taken_in_its_light() -> None:
    one, other = ([float(i * k % 31) for i in range(192)] for k in (1, 7))
    chart = [float((i * 13) % 40) for i in range(192)]
    frames = [
        sighting(1, 0, descriptor=chart, chart=True),
        sighting(2, 1, descriptor=one),
        sighting(3, 2, descriptor=one),
    ]
    assert [p.keys for p in propose(frames)] == [(1, 2, 3)]
    # Between two setups it does not join them.
    frames = [
        sighting(1, 0, descriptor=one),
        sighting(2, 1, descriptor=chart, chart=True),
        sighting(3, 2, descriptor=other),
    ]
    assert [p.keys for p in propose(frames)] == [(1, 2), (3,)]
    frames = [sighting(1, 0, descriptor=chart, chart=True), sighting(2, 1, descriptor=one, light_mired=350.0)]
    assert len(propose(frames)) == 2
