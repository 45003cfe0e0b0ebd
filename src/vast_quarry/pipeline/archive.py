"""A folder of a project or of a build as one zip, and back: with a manifest, checksums, and nothing that leads out of it.

The manifest (``manifest.json``, first in the zip) says what the archive is, by which program it was made, and of each file its path,
size and SHA-256. Pictures and arrays that are packed already are stored as they are.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import stat
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path, PurePosixPath
from typing import Any

from vast_quarry import __version__
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.words import say

MANIFEST, KIND, NUMBER = "manifest.json", "vast-quarry-archive", 1
#: below a project's folder what is not taken along, and what can be made again from the rest
LEFT, AGAIN = ("cache", "uploads", "trash"), ("versions",)
#: endings of what does not become smaller
PACKED = (".jpg", ".jpeg", ".png", ".webp", ".npz", ".glb", ".zip", ".mp4", ".mov", ".heic", ".usdz", ".laz")
#: manifests larger than this, and more files than this, are refused
MOST_MANIFEST, MOST_FILES = 200_000_000, 2_000_000
_CHUNK = 1 << 20


def files_of(folder: Path, partial: bool = False) -> Iterator[Path]:
    """Files that go into an archive, below ``folder``, in order; with ``partial`` without what can be made again.

    Photos that are only linked go in as what they lead to: elsewhere the link would lead nowhere. Linked folders do not.
    """
    for here, names, files in os.walk(folder):
        below = Path(here).relative_to(folder)
        top = below == Path()
        names[:] = sorted(
            n for n in names
            if not n.endswith(".partial") and not (top and n in LEFT) and not (top and partial and n in AGAIN)
            and not (Path(here) / n).is_symlink()
        )  # fmt: skip
        for name in sorted(files):
            path = Path(here) / name
            if not name.endswith((".lock", ".partial", ".part")) and not name.startswith(".probe") and path.is_file():
                yield below / name


def pack(
    folder: Path, out: Path, facts: dict[str, Any] | None = None, partial: bool = False,
    told: Callable[[float], None] = lambda share: None,
) -> dict[str, Any]:  # fmt: skip
    """Write a folder as an archive; its manifest.

    Parameters
    ----------
    facts : dict, optional
        More to say in the manifest, such as the project's row.
    partial : bool
        Leave out what can be made again.
    told : callable
        Hears what share is done; may raise to cancel.

    Raises
    ------
    PlainError
        When there is nothing, or it cannot be read or written.
    """
    if not folder.is_dir():
        raise PlainError(say("There is no folder {path}.", path=folder), "Check the path.")
    names = list(files_of(folder, partial))
    if not names:
        raise PlainError(say("There is nothing in {path} to put into an archive.", path=folder))
    try:
        listed = [
            {"path": n.as_posix(), "bytes": (folder / n).stat().st_size, "sha256": _hash(folder / n)} for n in names
        ]
        sizes = [(folder / n).stat().st_size for n in names]
        total = sum(sizes) or 1
        manifest: dict[str, Any] = {
            "kind": KIND, "version": NUMBER, "made_with": f"Vast Quarry {__version__}", "partial": partial,
            "bytes": total, "files": listed, **(facts or {}),
        }  # fmt: skip
        done = 0
        with atomic_write(out) as stream, zipfile.ZipFile(stream, "w", allowZip64=True) as z:
            z.writestr(MANIFEST, json.dumps(manifest, indent=1), zipfile.ZIP_DEFLATED)
            for n, size in zip(names, sizes):
                told(done / total)
                way = zipfile.ZIP_STORED if n.suffix.lower() in PACKED else zipfile.ZIP_DEFLATED
                entry = zipfile.ZipInfo(n.as_posix(), (2026, 1, 1, 0, 0, 0))
                entry.compress_type = way
                with (folder / n).open("rb") as source, z.open(entry, "w", force_zip64=True) as target:
                    shutil.copyfileobj(source, target, _CHUNK)
                done += size
    except OSError as error:
        raise PlainError(
            say("The archive cannot be written ({why}).", why=error.strerror or error),
            "Check the folder and the space left.",
        ) from error
    told(1.0)
    return manifest


def _hash(path: Path) -> str:
    out = hashlib.sha256()
    with path.open("rb") as f:
        while block := f.read(_CHUNK):
            out.update(block)
    return out.hexdigest()


def read_manifest(archive: Path) -> dict[str, Any]:
    """The manifest of an archive, checked.

    Raises
    ------
    PlainError
        When it is no archive of ours, cut short, of a newer program, or has paths that lead out of it.
    """
    try:
        with zipfile.ZipFile(archive) as z:
            if z.getinfo(MANIFEST).file_size > MOST_MANIFEST:
                raise ValueError
            manifest = json.loads(z.read(MANIFEST))
            entries = {i.filename: i for i in z.infolist()}
    except OSError as error:
        raise PlainError(
            say("{path} cannot be read ({why}).", path=archive, why=error.strerror or error), "Check the path."
        ) from error
    except (zipfile.BadZipFile, KeyError, ValueError, RecursionError, NotImplementedError, EOFError) as error:
        raise PlainError(
            say("{name} is no archive of a project, or it is cut short.", name=archive.name),
            "Copy it anew, and try again.",
        ) from error
    if not isinstance(manifest, dict) or manifest.get("kind") != KIND or not isinstance(manifest.get("files"), list):
        raise PlainError(say("{name} is no archive of a project.", name=archive.name))
    if int(manifest.get("version") or 0) > NUMBER:
        raise PlainError(
            say("{name} was made by a newer version of the program.", name=archive.name), "Update it first."
        )
    if len(manifest["files"]) > MOST_FILES:
        raise PlainError(say("{name} lists too many files.", name=archive.name))
    seen = set()
    for file in manifest["files"]:
        path, size = str(file.get("path", "")), file.get("bytes")
        entry = entries.get(path)
        if not _is_within(path) or path in seen or not isinstance(size, int) or size < 0 or entry is None:
            raise PlainError(
                say("{name} lists a file that it may not hold: {path}", name=archive.name, path=path[:200]),
                "It was not made by this program, or it is damaged.",
            )
        # a link, or more bytes than are said: neither is of ours
        if stat.S_ISLNK(entry.external_attr >> 16) or entry.file_size != size:
            raise PlainError(
                say("{name} lists a file that it may not hold: {path}", name=archive.name, path=path[:200]),
                "It was not made by this program, or it is damaged.",
            )
        seen.add(path)
    return manifest


def _is_within(path: str) -> bool:
    """Whether a path stays below the folder that it is unpacked to, on any system."""
    parts = PurePosixPath(path).parts
    return bool(
        path and len(path) < 1000 and "\\" not in path and ":" not in path and path.isprintable() and not path.startswith("/")
        and parts and all(p not in ("", ".", "..") for p in path.split("/")) and path != MANIFEST
    )  # fmt: skip


def unpack(archive: Path, folder: Path, told: Callable[[float], None] = lambda share: None) -> dict[str, Any]:
    """Unpack an archive into a new folder; its manifest. Nothing is left behind when it fails.

    What an earlier attempt unpacked whole is taken as it is.

    Raises
    ------
    PlainError
        When the folder holds anything, or the archive is not whole.
    """
    manifest = read_manifest(archive)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise PlainError(say("{path} is there already.", path=folder), "Give a new or an empty folder.")
    work = folder.with_name(f".{folder.name}.partial")
    total = sum(int(f["bytes"]) for f in manifest["files"]) or 1
    try:
        work.mkdir(parents=True, exist_ok=True)
        if shutil.disk_usage(work).free < total:
            raise PlainError(
                say("{size} MB are needed to unpack this.", size=round(total / 1e6)), "Free some space, and try again."
            )
        done = 0
        with zipfile.ZipFile(archive) as z:
            for file in manifest["files"]:
                told(done / total)
                _take(z, file, work)
                done += int(file["bytes"])
        if folder.exists():
            folder.rmdir()
        work.replace(folder)
    except OSError as error:
        raise PlainError(
            say("The archive cannot be unpacked ({why}).", why=error.strerror or error),
            "Check the folder and the space left.",
        ) from error
    except (zipfile.BadZipFile, zipfile.LargeZipFile, EOFError, ValueError, NotImplementedError) as error:
        shutil.rmtree(work, ignore_errors=True)
        raise PlainError(
            say("{name} is damaged: a file in it is not what it was.", name=archive.name),
            "Copy it anew, and try again.",
        ) from error
    told(1.0)
    return manifest


def _take(z: zipfile.ZipFile, file: dict[str, Any], work: Path) -> None:
    target = work / file["path"]
    size, wanted = int(file["bytes"]), str(file.get("sha256"))
    if target.is_file() and target.stat().st_size == size and _hash(target) == wanted:
        return
    target.parent.mkdir(parents=True, exist_ok=True)
    found, taken = hashlib.sha256(), 0
    with z.open(file["path"]) as source, target.open("wb") as out:
        while block := source.read(_CHUNK):
            taken += len(block)
            if taken > size:
                raise ValueError("longer than it is said to be")
            found.update(block)
            out.write(block)
    if taken != size or found.hexdigest() != wanted:
        raise ValueError("not what it was")
