"""Worker processes, one for each lane of jobs, split off a process that has loaded all they need.

A job that takes its process down, or is ended because it does not stop, is then no matter of the jobs of other lanes. Loading takes
seconds and a quarter of a gigabyte; split off, a process is there at once and shares that memory.

The template is told on its standard input which lane to split off, and answers with the number of the process.
"""

from __future__ import annotations

import argparse
import gc
import logging
import os
import signal
import sys
import threading
from pathlib import Path

from vast_quarry.core.formats.lock import release, wait_for
from vast_quarry.server.log import write_log
from vast_quarry.server.services.jobs import LANES
from vast_quarry.server.worker import end_with, quiet_when_stopping, work

log = logging.getLogger(__name__)


def _be_worker(data: Path, lane: str, template: int) -> None:
    """Run jobs of one lane for as long as the template lives."""
    os.setsid()  # its helpers can be ended with it
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    with open(os.devnull) as nothing:
        os.dup2(nothing.fileno(), 0)
    os.dup2(2, 1)  # what the template says is no place for what jobs print
    end_with(template)
    handle = wait_for(data / f"worker-{lane}.lock")
    log.info("worker %s begins with jobs of the lane %s", os.getpid(), lane)
    work(data, parent=template, lane=lane)
    release(handle)


def main() -> None:
    """Way in of the template."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--data", type=Path, required=True)
    a = parser.parse_args()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the server's to hear
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for those that are split off
    threading.excepthook = quiet_when_stopping
    write_log(a.data, "worker")
    gc.freeze()  # what is imported is shared with those that are split off, and looked through by none of them
    me, split = os.getpid(), set[int]()
    for line in sys.stdin:
        lane = line.strip()
        if lane not in LANES:
            continue
        pid = os.fork()
        if pid == 0:
            code = 1
            try:
                _be_worker(a.data, lane, me)
                code = 0
            except BaseException:
                log.exception("the worker of the lane %s failed", lane)
            finally:
                os._exit(code)
        split.add(pid)
        print(pid, flush=True)
    for pid in split:  # the server is gone
        try:
            os.killpg(pid, signal.SIGKILL)
        except OSError:
            continue


if __name__ == "__main__":
    main()
