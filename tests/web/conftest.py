"""A library of one's own, empty, in this process."""

from __future__ import annotations

import pytest

from tests.own import Own


@pytest.fixture
def own(tmp_path):
    """Opened, and let go at the end."""
    opened = Own(tmp_path / "library")
    yield opened
    opened.close()
