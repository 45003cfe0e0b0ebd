"""Reading files that somebody brought in, in a process of its own with limits of time and memory.

The functions are those of the core, under their names; a file that hangs its reader, or takes it down, is told like any
other that cannot be read, and the next one gets a fresh reader.
"""

from __future__ import annotations

import atexit
import contextlib
import functools
import queue
import socket
import subprocess
import sys
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import ParamSpec, TypeVar

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats import meshes
from vast_quarry.core.photo import reading, video
from vast_quarry.core.words import say, together

P = ParamSpec("P")
T = TypeVar("T")

#: time that reading one file may take (s)
PATIENCE = 15.0
#: time that a reader may take to start, which is no fault of the file (s); a busy machine takes several
START = 120.0
#: files that are read at once
READERS = 2


class Unreadable(Exception):
    """What is the matter with a file, as a sentence without its subject."""


class Slow(PlainError):
    """A file took too long to be read: that may be the disk's doing, and another time it may not."""


class Reader:
    """One reading process, started when it is first needed."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._conn: Connection | None = None

    def _start(self) -> Connection:
        mine, theirs = socket.socketpair()
        with theirs:
            command = [sys.executable, "-m", "vast_quarry.pipeline.reader", str(theirs.fileno())]
            self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL)
        self._conn = Connection(mine.detach())
        return self._conn

    def ask(self, function: Callable[..., T], arguments: tuple, named: dict, patience: float) -> T:
        """Have a function called there.

        Raises
        ------
        PlainError
            When the function says so.
        Unreadable
            When it takes too long, too much memory, or takes the reader down.
        """
        conn = self._conn or self._start()
        try:
            conn.send(function)
            if not conn.poll(START):
                raise TimeoutError(f"the reader of files has not started in {START:.0f} s")
            conn.recv()
            conn.send((arguments, named))
            if not conn.poll(patience):
                self.end()
                raise Slow(
                    say(
                        "takes longer than {patience} s to read: its disk is slow, or it is damaged.",
                        patience=round(patience),
                    )
                )
            kind, what = conn.recv()
        except (EOFError, ConnectionError):
            self.end()
            raise Unreadable("takes its reader down; it is damaged, or made to harm.") from None
        except BaseException:
            self.end()  # an answer that nobody waits for any more must not be taken for the next one's
            raise
        if kind == "plain":
            raise PlainError(*what)
        if kind == "os":
            raise OSError(*what)
        if kind == "memory":
            raise Unreadable("needs more memory to read than is given to one file.")
        if kind == "broken":
            raise Unreadable(say("cannot be read ({what}).", what=what))
        result: T = what
        return result

    def end(self) -> None:
        """End the process, whatever it is doing."""
        if self._conn is not None:
            with contextlib.suppress(OSError):
                self._conn.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._conn = self._process = None


_all = [Reader() for _ in range(READERS)]
_idle: queue.LifoQueue[Reader] = queue.LifoQueue()
for _reader in _all:
    _idle.put(_reader)


@atexit.register
def end_all() -> None:
    """End all readers."""
    for r in _all:
        r.end()


def apart(function: Callable[P, T], patience: float = PATIENCE, by_name: bool = False) -> Callable[P, T]:
    """The same function, called in a reading process; it has to be one of a module.

    With ``by_name`` what goes wrong is told as of the file that is its first argument; else the sentence lacks its subject,
    which is the photo.
    """

    @functools.wraps(function)
    def called(*arguments: P.args, **named: P.kwargs) -> T:
        reader = _idle.get()
        subject = [Path(str(arguments[0])).name] if by_name else []
        try:
            return reader.ask(function, arguments, named, patience)
        except Slow as error:
            raise Slow(together([*subject, error.what]), "Try again.") from None
        except Unreadable as error:
            raise PlainError(together([*subject, error.args[0]]), "Leave it out.") from None
        finally:
            _idle.put(reader)

    return called


read_facts = apart(reading.read_facts)
load_rgb = apart(reading.load_rgb)
load_small = apart(reading.load_small)
probe = apart(video.probe, by_name=True)
#: a mesh may have millions of triangles
read_mesh = apart(meshes.read_mesh, patience=120.0, by_name=True)
