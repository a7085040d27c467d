"""How old a master is, in the steps in which the shelf shows it."""

from __future__ import annotations

MONTH_DAYS = 30.4
#: Of frames whose clock was ahead, or whose reader's is behind.
AHEAD = "dated ahead"
#: So many days ahead a night may be: tomorrow's is of a place further east.
MAY_BE_AHEAD_DAYS = 1
#: Upper ends of the steps, in months; beyond the last one is the last step.
STEPS_MONTHS = (1, 2, 4, 6, 9, 12)


def age_step(age_days: float) -> int:
    """Step 0 (new) … 6 (over a year)."""
    months = age_days / MONTH_DAYS
    return next((i for i, end in enumerate(STEPS_MONTHS) if months < end), len(STEPS_MONTHS))


def age_in_words(age_days: float) -> str:
    """'today', '5 days', '7 weeks', '13 months', '3 years': as people say it; `AHEAD` of what no clock here reached yet."""
    days = round(age_days)
    if days < -MAY_BE_AHEAD_DAYS:
        return AHEAD
    if days < 1:
        return "today"
    for unit, length, most in (("day", 1.0, 21), ("week", 7.0, 10), ("month", MONTH_DAYS, 24)):
        count = round(days / length)
        if count <= most:
            return f"{count} {unit}{'s' if count != 1 else ''}"
    return f"{round(days / 365.25)} years"
