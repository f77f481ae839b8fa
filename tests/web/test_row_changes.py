"""Lists that are asked for again: whoever merges what is told has what all of it says."""

import random

from tanner.web.serving.row_changes import MOST, RowChanges


def test_what_is_told_row_by_row_is_the_whole() -> None:
    at_random, told = random.Random(2), RowChanges()
    rows = [{"frame": n, "value": 0} for n in range(30)]
    known: dict[int, dict[str, int]] = {}
    word, sent_in_all = "", 0
    for _ in range(200):
        if at_random.random() < 0.1:
            at_random.shuffle(rows)
        if at_random.random() < 0.1:
            rows = [*rows[1:], {"frame": at_random.randint(100, 10**6), "value": 0}]
        for n in at_random.sample(range(30), 3):
            rows[n] = {**rows[n], "value": at_random.randint(0, 3)}
        word, sent, whole = told.news(word, "set 1", "frame", rows)
        known = {r["frame"]: r for r in sent} if whole else known | {r["frame"]: r for r in sent}
        assert list(known.values()) == rows
        sent_in_all += len(sent)
    assert sent_in_all < 0.5 * 200 * 30


def test_another_question_and_a_forgotten_word_are_answered_whole() -> None:
    told, rows = RowChanges(), [{"frame": 1}]
    word, _, whole = told.news("", "a", "frame", rows)
    assert whole and told.news(word, "b", "frame", rows)[1:] == (rows, True)
    word = told.news("", "a", "frame", rows)[0]
    for _ in range(MOST):
        told.news("", "c", "frame", rows)
    assert told.news(word, "a", "frame", rows)[2]
