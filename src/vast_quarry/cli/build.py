"""``build`` and ``align``: from a folder of photos to a model, or only to cameras."""

from __future__ import annotations

import json
import shutil
import signal
from pathlib import Path
from types import FrameType
from typing import Annotated, Any

import typer
from rich.console import Console

from vast_quarry.cli.language import told
from vast_quarry.cli.report import make_reporter
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import link_or_copy
from vast_quarry.core.photo.choice import CHOSEN_BY
from vast_quarry.core.photo.reading import find_photos
from vast_quarry.core.photo.video import find_videos, is_video
from vast_quarry.core.plan.mats import PAPERS
from vast_quarry.core.progress import Cancelled
from vast_quarry.pipeline.export import write_results
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.levels import MOST_LEVELS
from vast_quarry.pipeline.output import claim_output
from vast_quarry.pipeline.recipe import Recipe, read_recipe, recipe_for
from vast_quarry.pipeline.run import Runner, RunResult
from vast_quarry.pipeline.settings import keep_box, parsed
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Store
from vast_quarry.pipeline.video import Choice, frames_of

console = Console(stderr=False)
#: in the place of a folder of masks
SUGGEST = "suggest"

PhotosArgument = Annotated[Path, typer.Argument(help="Folder with the photos", show_default=False)]
OutOption = Annotated[Path, typer.Option("--out", help="Folder for the results", show_default=False)]
#: folder of a result in which photos that were added to an earlier one are gathered
ADDED = "added"
GradeOption = Annotated[
    Grade | None, typer.Option("--grade", help="How far to go [default: dressed]", show_default=False)
]
MasksOption = Annotated[
    str | None,
    typer.Option(
        "--masks", help="Folder with masks STEM.png, white is kept; or `suggest`, to find them in the way that suits"
    ),
]
RecipeOption = Annotated[Path | None, typer.Option("--recipe", help="Replay the settings of an earlier result")]


SetOption = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        help="A setting, as LAYER.NAME=VALUE, which `vast-quarry settings` lists; or a further set of photos, as "
        "NAME=FOLDER, that is aligned by itself and joined then. May be given often",
    ),
]
AddToOption = Annotated[
    Path | None,
    typer.Option(
        "--add-to",
        help="Folder of an earlier result: the photos are added to its own, and its alignment gone on from",
        show_default=False,
    ),
]
BoxOption = Annotated[
    str | None,
    typer.Option(
        "--box",
        help="Keep box, as X0,Y0,Z0,X1,Y1,Z1 with the turn about the upright in degrees after it where there is one: in the "
        "frame and unit of cameras.json",
        show_default=False,
    ),
]
MatOption = Annotated[
    str | None,
    typer.Option(
        "--mat", help=f"Marker mat in the photos: {', '.join(PAPERS)}, 'A4 round' ..., or the JSON of an own one"
    ),
]


def _mat(mat: str | None) -> dict[str, dict[str, Any]]:
    """Settings of Cameras for a mat."""
    if mat is None:
        return {}
    if not mat.endswith(".json"):
        return {"cameras": {"mat": mat}}
    try:
        listed = json.loads(Path(mat).read_text("utf-8"))["markers"]
        return {"cameras": {"mat": "own", "mat_markers": {int(m["id"]): m["corners"] for m in listed}}}
    except OSError as error:
        raise PlainError(f"The mat {mat} cannot be read ({error.strerror}).", "Check the path.") from error
    except (ValueError, KeyError, TypeError) as error:
        raise PlainError(
            f"{mat} is no marker mat.", "Give the JSON that `vast-quarry mat` writes beside its PDF."
        ) from error


def _changes(mat: str | None, settings: list[str] | None, masks: str | None) -> dict[str, dict[str, Any]]:
    """What options change in the settings of layers."""
    changes = _mat(mat)
    if masks == SUGGEST:
        changes["masks"] = {"way": "suggest"}
    for text in settings or ():
        if further_set(text):
            changes.setdefault("cameras", {})["sets_apart"] = True
            continue
        layer, values = parsed(text)
        changes.setdefault(layer, {}).update(values)
    return changes


def further_set(text: str) -> tuple[str, Path] | None:
    """Name and folder of a further set of photos typed as ``NAME=FOLDER``; None where it is a setting."""
    name, sign, folder = text.partition("=")
    # layers have a dot after them, sets have none
    return (name.strip(), Path(folder)) if sign and "." not in name and folder else None


def _added_to(earlier: Path, photos: Path, out: Path) -> tuple[Path, dict[str, dict[str, Any]]]:
    """Photos of an earlier result, whose versions are taken over, and where those that are added to them were gathered.

    Raises
    ------
    PlainError
        When there is no such result, or no photos to add.
    """
    try:
        store = Store(earlier)
        number = store.in_use()["photos"]
        before = read_photo_list(store.root / "photos" / str(number))
    except (OSError, ValueError, KeyError) as error:
        raise PlainError(
            f"There is no result in {earlier} to add to.", "Give the --out of an earlier align."
        ) from error
    found = find_photos(photos)
    if not found:
        raise PlainError(f"There are no photos in {photos}.", "Check the path.")
    if out.resolve() != earlier.resolve():
        for file in sorted(p for p in (earlier / "versions").rglob("*") if p.is_file() and ".partial" not in str(p)):
            target = out / "versions" / file.relative_to(earlier / "versions")
            if not target.exists():
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copy(file, target) if file.suffix == ".json" else link_or_copy(file, target)
    gathered = out / ADDED
    for folder in {Path(p.base) for p in before.photos if p.base}:
        for file in find_photos(folder):
            _gather(file, gathered / file.relative_to(folder))
    for file in found:
        _gather(file, gathered / file.relative_to(photos))
    aligned = next((v for v in store.versions("cameras") if v.number == store.in_use().get("cameras")), None)
    sets = aligned.settings.get("sets") if aligned else None
    return Path(before.folder), {
        "photos": {"more": str(gathered.resolve())},
        "cameras": {"sets": sets, "sets_apart": True} if sets else {},
    }


def _gather(file: Path, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    if not (target.exists() and target.samefile(file)):
        link_or_copy(file, target)


def _further_sets(settings: list[str] | None, into: Path) -> dict[str, dict[str, Any]]:
    """Gather further sets of photos into a folder, and say which photo is of which.

    Raises
    ------
    PlainError
        When a folder is not there or holds no photos, or its set has no fit name.
    """
    sets = [s for s in map(further_set, settings or ()) if s]
    names: dict[str, str] = {}
    for name, folder in sets:
        if not name or name in (".", "..") or "/" in name or not name.isprintable():
            raise PlainError(f'"{name}" is no name for a set of photos.', "Give it as --set NAME=FOLDER.")
        if not folder.is_dir():
            raise PlainError(f"There is no folder {folder}.", "Check the path in --set NAME=FOLDER.")
        found = find_photos(folder)
        if not found:
            raise PlainError(f"There are no photos in {folder}.", "Check the path in --set NAME=FOLDER.")
        shutil.rmtree(into / name, ignore_errors=True)
        for file in found:
            target = into / name / file.relative_to(folder)
            _gather(file, target)
            names[str(target.relative_to(into))] = name
    if not sets:
        return {}
    return {"photos": {"more": str(into.resolve())}, "cameras": {"sets": names}}


def _recipe(
    recipe: Path | None, grade: Grade | None, changes: dict[str, dict[str, Any]], add_to: Path | None = None
) -> Recipe:
    """The recipe to run: from a file, of a grade, or that of the result that is added to; options given by hand win."""
    if recipe is None and grade is None and add_to is not None and (add_to / "recipe.json").exists():
        recipe = add_to / "recipe.json"
    if recipe is None:
        return recipe_for(grade or Grade.DRESSED, changes)
    if grade is not None:
        raise PlainError("A recipe has a grade already.", "Give either --recipe or --grade.")
    read = read_recipe(recipe)
    for layer, values in changes.items():
        read.layers.setdefault(layer, {}).update(values)
    return read


def _frames(video: Path, folder: Path) -> int:
    """Frames of a video as photos, by motion and sharpness, and how many; those of an earlier run are taken again."""
    stamp = f"{video.resolve()}|{video.stat().st_size}|{video.stat().st_mtime_ns}|{CHOSEN_BY}"
    mark = folder / ".of"
    if mark.exists() and mark.read_text("utf-8") == stamp:
        return len(list(folder.glob("*.jpg")))
    for old in folder.glob("*.jpg") if folder.is_dir() else ():
        old.unlink()
    rows = frames_of(video, folder, Choice())
    mark.write_text(stamp, "utf-8")
    console.print(f"{len(rows)} frames of {video.name} are used.", markup=False, highlight=False, soft_wrap=True)
    return len(rows)


def _stands_still(videos: list[Path]) -> PlainError:
    """What to say when all that there is came down to one frame."""
    whose = f"{videos[0].name}, " if len(videos) == 1 else "the videos, "
    return PlainError(
        f"Nothing moves in {whose}or only where it is shaken or blurred, so one frame shows all there is.",
        "Film while walking round the subject, or while it turns on a turntable and is masked.",
    )


def _sources(photos: Path, out: Path) -> dict[str, Any]:
    """Settings of Photos for a folder of photos, a video, or a folder that holds both."""
    if photos.is_file() and is_video(photos):
        if _frames(photos, out / "frames") < 2:
            raise _stands_still([photos])
        return {"folder": str((out / "frames").resolve())}
    taken, troubles = 0, []
    videos = list(find_videos(photos)) if photos.is_dir() else []
    for video in videos:
        # names of videos in different folders may be the same
        name = "-".join(video.relative_to(photos).with_suffix("").parts)
        try:
            taken += _frames(video, out / "frames" / name)
        except PlainError as error:
            troubles.append(error)
            console.print(told(error.said), markup=False, highlight=False, soft_wrap=True)
    if troubles and not taken and not find_photos(photos):
        raise troubles[0]
    if taken == 1 and not find_photos(photos):
        raise _stands_still(videos)
    return {"folder": str(photos.resolve())} | ({"frames": str((out / "frames").resolve())} if taken else {})


def run_until(
    photos: Path, out: Path, masks: str | None, recipe: Recipe, until: str, settings: list[str] | None = None,
    add_to: Path | None = None, levels: int = 0,
) -> RunResult:  # fmt: skip
    """Run and write the results into ``out``; ``masks`` is a folder, or SUGGEST; ``settings`` may name sets of photos, and
    ``add_to`` an earlier result that the photos are added to; ``levels`` simpler models are written besides."""
    filmed = photos.is_file() and is_video(photos)
    claim_output(out, None if filmed else photos)
    store = Store(out.resolve())
    added: dict[str, dict[str, Any]] = {}
    if add_to is not None:
        photos, added = _added_to(add_to, photos, out)
    places: dict[str, dict[str, Any]] = {
        "photos": _sources(photos, out),
        "masks": {"folder": str(Path(masks).resolve()) if masks and masks != SUGGEST else None},
    }
    # photos that are added and further sets lie in one folder: a list of photos takes one besides its own
    into = out / (ADDED if added else "sets")
    further = _further_sets(settings, into)
    if further:
        further["cameras"]["sets"] |= added.get("cameras", {}).get("sets", {})
    for layer, values in [*added.items(), *further.items()]:
        places.setdefault(layer, {}).update(values)
    with make_reporter(console) as reporter:
        runner = Runner(store, reporter)

        def stop(signum: int, frame: FrameType | None) -> None:
            if runner.cancelled.is_set():
                raise KeyboardInterrupt
            runner.cancelled.set()
            reporter.say("Stopping; what is done is kept. Run the same command to go on.")

        before = signal.signal(signal.SIGINT, stop)
        try:
            try:
                result = runner.run(recipe, places, until)
            except Cancelled:
                raise
            except Exception as error:
                raise _kept(store, runner, recipe, out, error) from error
            reporter.say("Writing the results")
            without = write_results(store, result, recipe, out, levels=levels)
            if without:
                reporter.say(f"Left out of {result.versions['photos'].figures['photos']} photos: {len(without)}")
            for row in without:
                reporter.say(f"  {row['photo']} {told(row['why'])}")
        finally:
            signal.signal(signal.SIGINT, before)
    return result


def _kept(store: Store, runner: Runner, recipe: Recipe, out: Path, error: Exception) -> PlainError:
    """What to tell of a run that failed, once what the layers before made is written."""
    plain = error if isinstance(error, PlainError) else None
    what = plain.what if plain else f"Something went wrong inside the program ({type(error).__name__}: {error})."
    remedy = plain.remedy if plain else ""
    if "cameras" in runner.result.versions:
        write_results(store, runner.result, recipe, out, {"layer": runner.layer, "why": what})
        made = ", ".join(layer for layer in runner.result.versions if layer not in ("photos", "masks"))
        what = f"{runner.layer.capitalize()} could not be made: {what} What was made before ({made}) is in {out}."
    return PlainError(what, remedy)


def build(
    photos: PhotosArgument,
    out: OutOption,
    grade: GradeOption = None,
    masks: MasksOption = None,
    ground: Annotated[str | None, typer.Option(help="leave-out or keep the ground [default: leave-out]")] = None,
    closed: Annotated[bool, typer.Option("--closed", help="Close the bottom and whatever was not seen")] = False,
    place: Annotated[
        bool, typer.Option("--place", help="A place: keep all of it, not only what stands in its middle")
    ] = False,
    mat: MatOption = None,
    recipe: RecipeOption = None,
    settings: SetOption = None,
    add_to: AddToOption = None,
    box: BoxOption = None,
    levels: Annotated[
        int,
        typer.Option(
            min=0,
            max=MOST_LEVELS,
            help="Simpler models besides, each with a quarter of the triangles and half the side of the texture of the one before",
        ),
    ] = 0,
) -> None:
    """Make a textured model from a folder of photos."""
    changes = _changes(mat, settings, masks)
    if ground is not None:
        changes.setdefault("points", {})["ground"] = ground
    if box is not None:
        changes.setdefault("points", {})["box"] = keep_box(box)
    if place:
        changes.setdefault("cameras", {})["kind"] = "place"
    if closed:
        changes.setdefault("surface", {})["closed"] = True
    result = run_until(photos, out, masks, _recipe(recipe, grade, changes, add_to), "texture", settings, add_to, levels)
    surface, cameras = result.versions["surface"].figures, result.versions["cameras"].figures
    placed = cameras["placed"] + cameras["weak"]
    console.print(
        f"{placed} of {cameras['photos']} photos placed, {surface['triangles']} triangles, in {result.seconds:.0f} s: "
        f"{out / 'model.glb'}",
        markup=False, highlight=False, soft_wrap=True,
    )  # fmt: skip


def align(
    photos: PhotosArgument,
    out: OutOption,
    grade: GradeOption = None,
    masks: MasksOption = None,
    mat: MatOption = None,
    recipe: RecipeOption = None,
    settings: SetOption = None,
    add_to: AddToOption = None,
) -> None:
    """Only find out where the photos were taken from."""
    changes = _changes(mat, settings, masks)
    result = run_until(photos, out, masks, _recipe(recipe, grade, changes, add_to), "cameras", settings, add_to)
    figures = result.versions["cameras"].figures
    console.print(
        f"{figures['placed'] + figures['weak']} of {figures['photos']} photos placed: {out / 'cameras.json'}",
        markup=False, highlight=False, soft_wrap=True,
    )  # fmt: skip
