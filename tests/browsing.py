"""Waiting for the Bench's picture in browser tests."""

import time
from collections.abc import Callable

from playwright.sync_api import Page


def until(page: Page, expression: str, timeout_s: float = 30) -> None:
    """Until an expression is true. (The pages' policy forbids to evaluate strings inside of them.)"""
    end = time.monotonic() + timeout_s
    while not page.evaluate(expression):
        assert time.monotonic() < end, expression
        page.wait_for_timeout(30)


def settled(page: Page) -> None:
    """Until the picture that is shown is the settled one of the last wish."""
    page.wait_for_timeout(60)
    until(page, "document.getElementById('canvas').getAttribute('aria-busy') === 'false'")
    page.wait_for_timeout(40)
    until(page, "document.getElementById('canvas').getAttribute('aria-busy') === 'false'")


def eventually(page: Page, check: Callable[[], bool], timeout_s: float = 20) -> None:
    """Until a check is true: a loaded machine takes longer, and nothing here measures time."""
    end = time.monotonic() + timeout_s
    while not check():
        assert time.monotonic() < end, "did not come true"
        page.wait_for_timeout(60)


def command(page: Page, *labels: str) -> None:
    """A command of the page's menu, found by its name; more names lead into lists of its own."""
    page.locator("#commands").click()
    for label in labels:
        page.get_by_role("combobox", name="Find a command").fill(label)
        page.keyboard.press("Enter")
