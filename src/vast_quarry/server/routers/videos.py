"""Videos of a project."""

from __future__ import annotations

from fastapi import UploadFile
from fastapi.responses import FileResponse

from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import jobs, trash, videos
from vast_quarry.server.services.folders import get_project

router = strict.router("/api/v1/projects/{project_id}/videos", "videos")


@router.get("")
def list_videos(project_id: int, session: Db, f: Files) -> list[videos.VideoOut]:
    """All videos, with what looking through them gave."""
    get_project(session, project_id)
    return videos.list_videos(f)


@router.post("", status_code=201)
def upload(project_id: int, file: UploadFile, session: Db, f: Files) -> JobOut:
    """Take in a video; it is looked through as a job."""
    get_project(session, project_id)
    name = videos.take_video(f, file.filename or "video", file.file)
    return JobOut.of(jobs.add_job(session, project_id, "look", {"name": name}))


@router.post("/{name}/look", status_code=202)
def look(project_id: int, name: str, session: Db, f: Files) -> JobOut:
    """Look through a video again, as a job: what that gave may be thrown away at any time."""
    get_project(session, project_id)
    videos.video_file(f, name)
    return JobOut.of(jobs.add_job(session, project_id, "look", {"name": name}))


@router.delete("/{name}")
def remove(project_id: int, name: str, session: Db, f: Files) -> trash.Removed:
    """Move a video into the project's trash; frames that were taken from it stay."""
    get_project(session, project_id)
    return videos.remove(f, name)


@router.get("/{name}/picture/{index}", response_class=FileResponse)
def picture(name: str, index: int, f: Files) -> FileResponse:
    """A small picture of the video, by its place among them."""
    return FileResponse(videos.proxy_file(f, name, index), headers={"Cache-Control": "private, max-age=86400"})


@router.post("/{name}/choose")
def choose(name: str, body: videos.ChoiceIn, f: Files) -> videos.ChosenOut:
    """Which frames would be taken."""
    return videos.chosen(f, name, body)


@router.post("/{name}/take", status_code=202)
def take(project_id: int, name: str, body: videos.ChoiceIn, session: Db, f: Files) -> JobOut:
    """Take frames into the photos, as a job."""
    get_project(session, project_id)
    videos.chosen(f, name, body)
    return JobOut.of(
        jobs.add_job(session, project_id, "frames", {"name": name, "choice": body.model_dump(mode="json")})
    )
