"""``serve``: the application in the browser, with its worker."""

from __future__ import annotations

import errno
import os
import socket
import ssl
import threading
import time
import webbrowser
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.console import Console

from vast_quarry.core.errors import PlainError

if TYPE_CHECKING:
    from vast_quarry.server.access import Access, Role

console = Console(soft_wrap=True)


#: where passphrases are read from: on the command line everybody on this machine could see them
PASSPHRASES: dict[Role, str] = {"owner": "VAST_QUARRY_PASSPHRASE", "viewer": "VAST_QUARRY_VIEWER_PASSPHRASE"}


def default_data() -> Path:
    """Where projects are kept when nobody says where: with the user's other data."""
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


def _check(host: str, lan: bool, certificate: Path | None, key: Path | None) -> None:
    """Refuse what would open the projects to everybody, or could not be served.

    Raises
    ------
    PlainError
        When it would.
    """
    from vast_quarry.server.guard import OWN_NAMES

    if host not in OWN_NAMES and not lan:
        raise PlainError(
            f"{host} is not an address of this machine alone: whoever reaches it could see and delete all projects.",
            "Leave --host out. To work from elsewhere add --lan, which asks for a passphrase, or forward the port through ssh -L.",
        )
    for file in (certificate, key):
        if file is not None and not file.is_file():
            raise PlainError(f"There is no file {file}.", "Give the certificate and its key as PEM files.")
    if (certificate is None) != (key is None):
        raise PlainError("A certificate and its key are given together.", "Add --certificate and --certificate-key.")
    if certificate is not None:
        try:
            ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(certificate, key)
        except (ssl.SSLError, OSError) as error:
            raise PlainError(
                f"The certificate {certificate} cannot be used ({getattr(error, 'reason', None) or error}).",
                "Give it and its own key as PEM files, without a passphrase.",
            ) from error


def _who_may(tls: bool) -> tuple[Access, dict[Role, str]]:
    """Access by the passphrases of the environment; and the codes that are made up where it has none, by role."""
    from vast_quarry.server.access import Access, pairing_code

    given: dict[Role, str] = {role: os.environ.get(name, "") for role, name in PASSPHRASES.items()}
    codes: dict[Role, str] = {role: pairing_code() for role, text in given.items() if not text}
    return Access.of({**given, **codes}, tls), codes


def serve(
    host: Annotated[
        str | None, typer.Option(help="Address to listen at [default: 127.0.0.1, with --lan all of this machine's]")
    ] = None,
    port: Annotated[int, typer.Option(help="Port to listen at")] = 8765,
    data: Annotated[Path | None, typer.Option(help="Folder for projects [default: ~/.local/share/vast-quarry]")] = None,
    demo: Annotated[bool, typer.Option("--demo", help="Add the demo projects when they are not there")] = False,
    open_page: Annotated[bool, typer.Option("--open", help="Open the page in the browser")] = False,
    lan: Annotated[
        bool,
        typer.Option(
            "--lan",
            help=f"Open it to other machines, by the passphrases in {' and '.join(PASSPHRASES.values())}, else by codes",
        ),
    ] = False,
    certificate: Annotated[Path | None, typer.Option(help="Certificate (PEM), to serve encrypted")] = None,
    certificate_key: Annotated[Path | None, typer.Option(help="Its key (PEM)")] = None,
) -> None:
    """Start the application: server and worker. Stop with Ctrl-C."""
    # the server is heavy to load: only those who serve wait for it
    import uvicorn

    from vast_quarry.core.formats.lock import Taken, hold, release
    from vast_quarry.server.access import addresses_here
    from vast_quarry.server.app import make_app
    from vast_quarry.server.demo import add_demo
    from vast_quarry.server.keeper import Keeper
    from vast_quarry.server.log import write_log
    from vast_quarry.server.startup import take_in_what_came

    folder = (data or default_data()).resolve()
    host = host or ("0.0.0.0" if lan else "127.0.0.1")
    _check(host, lan, certificate, certificate_key)
    access, said = _who_may(certificate is not None) if lan else (None, {})
    named = f"[{host}]" if ":" in host else host
    scheme = "https" if certificate else "http"
    address = f"{scheme}://{'127.0.0.1' if lan else named}:{port}/"
    try:
        owned = hold(folder / "server.lock", {"address": address})
        write_log(folder, "server")
        app = make_app(folder, access)
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
    server = uvicorn.Server(
        uvicorn.Config(
            app, log_level="warning", timeout_graceful_shutdown=2,
            ssl_certfile=certificate, ssl_keyfile=certificate_key,
        )
    )  # fmt: skip

    def tell() -> None:
        while not server.started and not server.should_exit:
            time.sleep(0.02)
        if server.started:  # not before it answers
            console.print(f"Vast Quarry is at {address}  (Ctrl-C stops it)", highlight=False)
            for other in addresses_here(host) if lan else ():
                console.print(f"On this network: {scheme}://{other}:{port}/", highlight=False, markup=False)
            for role, code in said.items():
                console.print(f"Pairing code of {role}s: {code}", highlight=False)
            if lan and not certificate:
                console.print("What is sent can be read by others on this network: add --certificate.", highlight=False)
            if open_page:
                webbrowser.open(address)

    threading.Thread(target=tell, daemon=True).start()
    try:
        server.run(sockets=[listening])
    finally:
        keeper.close()
        release(owned)
