"""Makes what the demo ships of the milestone: its photos, and the project that was worked out from them, packed.

.venv/bin/python scripts/demo.py [PHOTOS]

Without a folder of photos the practice rig shoots them (about four minutes on two cores); the run takes about three more. With the folder of the
photos that are shipped these stay as they are.
"""

from __future__ import annotations

import logging
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from PIL import Image
from sqlmodel import Session, select

from vast_quarry.pipeline.packed import pack
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.server import demo
from vast_quarry.server.database import open_database
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.services.jobs import add_run
from vast_quarry.server.services.layers import step_of
from vast_quarry.server.worker import work

SHOT = ("--scene", "milestone", "--plan", "ring:3x12", "--size", "1600x1200", "--seed", "1", "--mat", "A3")
#: as a phone stores photos that have to travel: the carved words stay sharp
QUALITY = 72


def main() -> None:
    """Shoot, work out, pack."""
    logging.basicConfig(level=logging.WARNING)
    with tempfile.TemporaryDirectory() as place:
        root = Path(place)
        photos = Path(sys.argv[1]) if len(sys.argv) > 1 else root / "set" / "photos"
        if len(sys.argv) < 2:
            subprocess.run([sys.executable, "-m", "vast_quarry.cli.main", "rig", "shoot", *SHOT, "--out", root / "set"], check=True)  # fmt: skip
        shipped = demo.SHIPPED / "photos"
        if photos.resolve() != shipped.resolve():  # those that are shipped lose nothing by being worked out again
            shutil.rmtree(shipped, ignore_errors=True)
            shipped.mkdir()
            for file in sorted(photos.glob("*.jpg")):
                with Image.open(file) as image:
                    image.save(shipped / file.name, quality=QUALITY, subsampling=2, exif=image.getexif())
        data = root / "data"
        data.mkdir()
        engine = open_database(data)
        with Session(engine) as session:
            number = demo.add_finished(session, data, unpacked=False)
            project = session.get(Project, number)
            assert project is not None
            add_run(session, project, "texture")
        work(data, once=True)
        with Session(engine) as session:
            job = session.exec(select(Job)).one()
            assert job.state == "done", job.message
        folders = folders_of(data, number)
        in_use = folders.store.in_use()
        cameras = folders.store.root / "cameras" / str(in_use["cameras"])
        posters = {f"cache/{p.name}": p for p in sorted(folders.cache.glob("poster-*"))}
        pack(folders.store, demo.SHIPPED / demo.FINISHED, load_solution(cameras).gsd(), posters)
    for layer in in_use:
        print(step_of(layer).title, in_use[layer])
    whole = sum(p.stat().st_size for p in [*(demo.SHIPPED / "photos").iterdir(), demo.SHIPPED / demo.FINISHED])
    print(f"{whole / 1e6:.1f} MB: photos and {demo.FINISHED}")


if __name__ == "__main__":
    main()
