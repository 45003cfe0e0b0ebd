"""A process that reads files for the server: what is hostile or broken takes down this one, not the server.

It gets a function over a pipe, says when it has it, gets what to call it with and answers what came of it; its memory
is limited by the system, its time by who asks (:mod:`vast_quarry.pipeline.apart`).
"""

from __future__ import annotations

import contextlib
import logging
import resource
import signal
import sys
from multiprocessing.connection import Connection
from typing import Any

from vast_quarry.core.errors import PlainError

#: memory that reading one file may take (bytes of address space): a photo of 200 megapixels fits several times over
MEMORY = 6_000_000_000


def answer(conn: Connection) -> None:
    """Do what is asked until the other end is gone."""
    while True:
        out: tuple[str, Any]
        try:
            function = conn.recv()  # brings all it needs in with it, which takes seconds the first time
            conn.send("ready")
            arguments, named = conn.recv()
        except (EOFError, OSError):
            return
        try:
            out = ("done", function(*arguments, **named))
        except PlainError as error:
            out = ("plain", (error.what, error.remedy))
        except MemoryError:
            out = ("memory", None)
        except OSError as error:
            out = ("os", (error.errno, error.strerror or str(error)))
        except Exception as error:
            logging.getLogger(__name__).exception("a file could not be read")
            out = ("broken", f"{type(error).__name__}: {error}")
        try:
            conn.send(out)
        except (BrokenPipeError, OSError):
            return


def main() -> None:
    """Way in: the pipe is inherited as a file descriptor."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    answer(Connection(int(sys.argv[1])))


if __name__ == "__main__":
    main()
