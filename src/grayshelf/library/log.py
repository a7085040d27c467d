"""The log file of a library: what failed, with its trace. Pages tell what it means; this tells where it happened."""

from __future__ import annotations

import logging
from logging.handlers import RotatingFileHandler
from pathlib import Path

#: Below the library's folder.
LOG_FILE = "logs/grayshelf.log"
_MOST_BYTES, _OLDER_KEPT = 1_000_000, 4


def keep_log(root: Path) -> logging.Handler:
    """Write warnings and errors to the library's log file from now on; `stop_log` ends it."""
    path = root / LOG_FILE
    path.parent.mkdir(exist_ok=True)
    handler = RotatingFileHandler(
        path, maxBytes=_MOST_BYTES, backupCount=_OLDER_KEPT, encoding="utf-8", delay=True
    )
    handler.setLevel(logging.WARNING)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger("grayshelf").addHandler(handler)
    return handler


def stop_log(handler: logging.Handler) -> None:
    """Close the log file."""
    logging.getLogger("grayshelf").removeHandler(handler)
    handler.close()
