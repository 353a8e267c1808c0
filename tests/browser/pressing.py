"""What is pressed: reached by keys alone, or pressed twice to be sure."""

from __future__ import annotations

from playwright.sync_api import Locator, Page

MOST = 120  # presses of Tab until one gives up


def tab_to(page: Page, wanted: Locator, back: bool = False) -> None:
    """Presses Tab (with Shift where `back`) until what is wanted has the focus."""
    wanted.wait_for()
    for _ in range(MOST):
        if wanted.evaluate("e => e === document.activeElement"):
            return
        page.keyboard.press("Shift+Tab" if back else "Tab")
    raise AssertionError(f"{MOST} presses of Tab do not reach {wanted}")


def press_twice(where: Page | Locator, name: str) -> None:
    """A button for what cannot be taken back."""
    where.get_by_role("button", name=name).click()
    where.get_by_role("button", name=f"{name}: press again").click()
