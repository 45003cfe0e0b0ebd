"""A log file for each process of a data folder, with rotation; the page shows plain sentences only."""

from __future__ import annotations

import logging
from logging.handlers import RotatingFileHandler
from pathlib import Path

#: size of a log file, and how many old ones are kept
SIZE, KEPT = 1_000_000, 4


def log_file(data: Path, who: str) -> Path:
    """Where the log of a process is."""
    return data / "logs" / f"{who}.log"


def write_log(data: Path, who: str) -> None:
    """Send what this process has to say into its log file."""
    file = log_file(data, who)
    file.parent.mkdir(parents=True, exist_ok=True)
    handler = RotatingFileHandler(file, maxBytes=SIZE, backupCount=KEPT, encoding="utf-8", delay=True)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    root = logging.getLogger()
    for old in [h for h in root.handlers if isinstance(h, RotatingFileHandler)]:
        root.removeHandler(old)
        old.close()
    root.addHandler(handler)
    root.setLevel(logging.INFO)
    # their every step is of no use to anybody
    for name in ("alembic", "PIL", "numba", "httpx", "sse_starlette"):
        logging.getLogger(name).setLevel(logging.WARNING)
