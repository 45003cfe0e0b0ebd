"""``serve``: the application in the browser, with its worker."""

from __future__ import annotations

import errno
import os
import socket
import threading
import time
import webbrowser
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from vast_quarry.core.errors import PlainError

console = Console(soft_wrap=True)


def _default_data() -> Path:
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "vast-quarry"


def _listen(host: str, port: int) -> socket.socket:
    """A socket that listens at an address.

    Raises
    ------
    PlainError
        When there is no such port, or somebody else has it.
    """
    if not 0 < port < 65536:
        raise PlainError(f"There is no port {port}.", "Ports go from 1 to 65535.")
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    out = socket.socket(family, socket.SOCK_STREAM)
    out.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        out.bind((host, port))
    except OSError as error:
        out.close()
        if error.errno == errno.EADDRINUSE:
            raise PlainError(
                f"Another program listens at port {port}.", "Stop it, or choose another with --port."
            ) from error
        raise PlainError(
            f"{host} at port {port} cannot be listened at ({error.strerror}).", "Choose another with --host or --port."
        ) from error
    return out


def serve(
    host: Annotated[str, typer.Option(help="Address to listen at")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen at")] = 8765,
    data: Annotated[Path | None, typer.Option(help="Folder for projects [default: ~/.local/share/vast-quarry]")] = None,
    demo: Annotated[bool, typer.Option("--demo", help="Add the demo projects when they are not there")] = False,
    open_page: Annotated[bool, typer.Option("--open", help="Open the page in the browser")] = False,
) -> None:
    """Start the application: server and worker. Stop with Ctrl-C."""
    # the server is heavy to load: only those who serve wait for it
    import uvicorn

    from vast_quarry.core.formats.lock import Taken, hold, release
    from vast_quarry.server.app import make_app
    from vast_quarry.server.demo import add_demo
    from vast_quarry.server.guard import OWN_NAMES
    from vast_quarry.server.keeper import Keeper
    from vast_quarry.server.log import write_log
    from vast_quarry.server.startup import take_in_what_came

    folder = (data or _default_data()).resolve()
    if host not in OWN_NAMES:
        raise PlainError(
            f"{host} is not an address of this machine alone: whoever reaches it could see and delete all projects.",
            "Leave --host out; to work from elsewhere, forward the port through ssh -L.",
        )
    named = f"[{host}]" if ":" in host else host
    address = f"http://{named}:{port}/"
    try:
        owned = hold(folder / "server.lock", {"address": address})
        write_log(folder, "server")
        app = make_app(folder)
    except Taken as error:
        raise PlainError(
            f"The projects in {folder} are open in another Vast Quarry{error.whose}.",
            "Use that one, stop it, or choose another folder with --data.",
        ) from error
    except OSError as error:
        raise PlainError(
            f"The folder {folder} cannot be written ({error.strerror}).", "Choose another with --data."
        ) from error
    try:
        listening = _listen(host, port)
    except PlainError:
        release(owned)
        raise
    if demo:
        add_demo(app.state.engine, folder)
    take_in_what_came(app.state.engine, folder)
    keeper = Keeper(app.state.engine, folder)
    server = uvicorn.Server(uvicorn.Config(app, log_level="warning", timeout_graceful_shutdown=2))

    def tell() -> None:
        while not server.started and not server.should_exit:
            time.sleep(0.02)
        if server.started:  # not before it answers
            console.print(f"Vast Quarry is at {address}  (Ctrl-C stops it)", highlight=False)
            if open_page:
                webbrowser.open(address)

    threading.Thread(target=tell, daemon=True).start()
    try:
        server.run(sockets=[listening])
    finally:
        keeper.close()
        release(owned)
