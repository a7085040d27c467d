"""Waiting for what is worked out meanwhile."""

import time


def asked_until(ask, right, seconds=40.0, tell=str, rest=4.0):
    """What `ask()` gives, once it is `right`; where that takes too long, the failure says what `tell` makes of it.

    Asked again after `rest` times as long as the answer took: a page is dear, and those who wait for it would keep the
    processor from what they wait for. What is to be met on its way, before it is over, is asked for without a rest.
    """
    end = time.monotonic() + seconds
    while True:
        begun = time.monotonic()
        found = ask()
        if right(found):
            return found
        now = time.monotonic()
        assert now < end, f"it did not come to that: {tell(found)}"
        time.sleep(min(max(0.02, rest * (now - begun)), 0.5))
