"""Jobs and things are remembered by number, the last few of them; what is under way is never forgotten."""

from tanner.jobs.recent import RecentJobs


def test_the_last_ones_are_known_and_what_is_busy_stays() -> None:
    busy = {2}
    things: RecentJobs[int] = RecentJobs(3, busy=lambda n: n in busy)
    for n in range(1, 8):
        assert things.add(lambda number: number) == n
    assert things.all() == [2, 5, 6, 7] and things.get(1) is None and things.get(2) == 2
    busy.clear()
    assert things.add(lambda number: number) == 8 and things.all() == [6, 7, 8]
