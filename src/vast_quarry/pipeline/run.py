"""Running layers one after the other: reuse what is there, go on where a killed run stopped, report."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Mapping
from concurrent.futures import BrokenExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from threadpoolctl import threadpool_limits

from vast_quarry.core.errors import PlainError
from vast_quarry.core.progress import Cancelled
from vast_quarry.pipeline.ahead import Ahead
from vast_quarry.pipeline.contents import KNOWN, Held, folder_contents, stamp_of
from vast_quarry.pipeline.executors import LazyExecutor
from vast_quarry.pipeline.forecast import TYPICAL, StageClock
from vast_quarry.pipeline.mask_edits import edits_by_photo, edits_made
from vast_quarry.pipeline.masking import model_stamp
from vast_quarry.pipeline.memory import MemoryWatch, give_back
from vast_quarry.pipeline.recipe import Recipe
from vast_quarry.pipeline.registry import STEPS
from vast_quarry.pipeline.step import Context, Reporter, Step, StepSettings
from vast_quarry.pipeline.steps.masks import MasksSettings
from vast_quarry.pipeline.steps.photos import PhotosSettings, photo_folders, read_photo_list
from vast_quarry.pipeline.store import Store, Version, version_key


@dataclass
class RunResult:
    """What a run did.

    Attributes
    ----------
    versions : dict
        Version of each layer.
    settings : dict
        All settings as used, by layer.
    steps : list of dict
        Per step: seconds, peak memory, figures, whether it was reused.
    """

    versions: dict[str, Version] = field(default_factory=dict)
    settings: dict[str, dict[str, Any]] = field(default_factory=dict)
    steps: list[dict[str, Any]] = field(default_factory=list)
    seconds: float = 0.0
    peak_bytes: int = 0

    @property
    def findings(self) -> list[str]:
        """Findings of all layers."""
        return [f for v in self.versions.values() for f in v.findings]


def _file_stamp(file: str) -> str:
    try:
        s = Path(file).stat()
    except OSError:
        return file
    return f"{file}|{s.st_size}|{s.st_mtime_ns}"


def _mask_files(folder: Path) -> list[str]:
    """Files of a folder of masks that count, as seen from it."""
    return sorted(str(p.relative_to(folder)) for p in folder.rglob("*") if p.suffix.lower() == ".png")


def _mask_stamp(settings: MasksSettings, files: str) -> str:
    """What masks are made from besides their settings and the photos."""
    edits = Path(settings.edits).read_text("utf-8") if settings.edits and Path(settings.edits).exists() else ""
    model = model_stamp(settings.model) if settings.way in ("model", "suggest") else ""
    network = _file_stamp(settings.network) if settings.way == "network" and settings.network else ""
    return "\n".join((files, edits, model, network)) if files or edits or model or network else ""


#: settings of Masks that say where things lie
_MASK_PLACES = {"folder", "model", "network", "edits"}
#: settings that say in which folders photos or masks lie: what these hold counts, not where it is
_FOLDERS = {"folder", "frames", "more"}


class Runner:
    """Runs steps in a store."""

    def __init__(self, store: Store, reporter: Reporter) -> None:
        self.store, self.reporter = store, reporter
        self.cancelled = threading.Event()
        #: what a run has made so far, also when a later layer fails; and the layer that is being made
        self.result = RunResult()
        self.layer = ""
        self._pace = 1.0
        self._held: list[Held] = []
        self._stamps: dict[str, str] = {}
        self._ahead = Ahead(reporter, [], lambda layer: 0.0)

    def run(
        self, recipe: Recipe, places: dict[str, dict[str, Any]], until: str = "texture", from_in_use: bool = False
    ) -> RunResult:
        """Run every layer up to and including ``until``.

        With ``from_in_use`` the versions in use of the layers before are taken as they are, whatever the recipe says of
        them, unless one was made from something other than what is in use now: then it is made again. Photos and masks
        are always looked at again, since files may have come or gone.

        Raises
        ------
        PlainError
            When a layer cannot be made; what was made before stays.
        Cancelled
            When :attr:`cancelled` was set.
        """
        self.store.prepare()
        result = self.result = RunResult()
        began = time.monotonic()
        chosen = STEPS[: [s.layer for s in STEPS].index(until) + 1]
        # impossible settings are told before anything is computed
        settings = [recipe.settings(s.layer, s.settings_model, places.get(s.layer, {})) for s in chosen]
        executor, memory = LazyExecutor(), MemoryWatch()
        self._stamps = {}
        at_once = True
        try:
            with self.store.making(), memory:
                todo = self._foreseen(list(zip(chosen, settings)), until, from_in_use)
                self._ahead = Ahead(
                    self.reporter, list(todo), lambda layer: sum(self._plan(layer, todo[layer]).values())
                )
                for step, values in zip(chosen, settings):
                    self.layer = step.layer
                    if not (from_in_use and step.layer != until and self._take(step, values, result)):
                        self._one(step, values, result, executor, memory)
                        give_back()
            at_once = False
        finally:
            executor.close(at_once)
            result.peak_bytes = memory.peak
            result.seconds = time.monotonic() - began
        return result

    def _foreseen(
        self, steps: list[tuple[Step, StepSettings]], until: str, from_in_use: bool
    ) -> dict[str, dict[str, Any]]:
        """Settings of the layers that are to be made, as far as can be known before; in order."""
        versions: dict[str, Version] = {}
        keys: dict[str, str] = {}
        out: dict[str, dict[str, Any]] = {}
        for step, values in steps:
            self.layer, found = step.layer, None
            there = all(p in versions for p in step.parents)
            if from_in_use and step.layer != until and there:
                found = self._in_use_still(step, values, versions)
            if found is None:
                keys[step.layer] = self._key(step, values, {p: keys[p] for p in step.parents})
                found = self._found(step, values, keys[step.layer])
            if found is None:
                out[step.layer] = values.model_dump(mode="json")
            else:
                versions[step.layer], keys[step.layer] = found, found.key
        return out

    def _in_use_still(self, step: Step, values: StepSettings, parents: Mapping[str, Version]) -> Version | None:
        """A layer's version in use, if there is one and it goes with those of the layers before."""
        if isinstance(values, PhotosSettings):
            return None
        number = self.store.in_use().get(step.layer)
        found = next((v for v in self.store.versions(step.layer) if v.number == number), None)
        if found is None or any(not self.store.still_good(found, p, parents[p].number) for p in step.parents):
            return None
        if isinstance(values, MasksSettings) and not self._projected_still(found, values):
            return None
        return found

    def _take(self, step: Step, values: StepSettings, result: RunResult) -> bool:
        """Take a layer's version in use as it is, if that holds."""
        found = self._in_use_still(step, values, result.versions)
        if found is None:
            return False
        self._ahead.begin(step.layer, step.title)
        self._note(found, found.settings, result, reused=True, peak=None)
        return True

    def _projected_still(self, version: Version, values: MasksSettings) -> bool:
        """Whether masks were projected from a model and nothing but that model has changed: they stay until they are run again."""
        if not version.figures.get("made_from"):
            return False
        same = values.model_dump(mode="json", exclude=_MASK_PLACES)
        kept = {k: v for k, v in version.settings.items() if k not in _MASK_PLACES}
        return same == kept and edits_by_photo(values.edits) == edits_made(self.store.folder(version))

    def _note(
        self, version: Version, settings: dict[str, Any], result: RunResult, reused: bool, peak: int | None
    ) -> None:
        result.versions[version.layer] = version
        result.settings[version.layer] = settings
        result.steps.append(
            {
                "layer": version.layer,
                "version": version.number,
                "reused": reused,
                "seconds": round(version.seconds, 2),
                "peak_memory_mb": peak,
                "figures": version.figures,
            }
        )
        self.reporter.end(version.layer, version.seconds, reused)

    def _key(self, step: Step, settings: StepSettings, parents: dict[str, str]) -> str:
        """Identity of what a layer makes of that."""
        if step.layer not in self._stamps:
            self._stamps[step.layer] = self._stamp(settings)
        stamp = self._stamps[step.layer]
        counts = {
            k: v for k, v in settings.model_dump(mode="json").items()
            if not ((stamp and k in _FOLDERS) or k in ("edits", "model", "network") or k in settings.untouched)
        }  # fmt: skip
        return version_key(step.layer, counts, parents, stamp)

    def _found(self, step: Step, settings: StepSettings, key: str) -> Version | None:
        """The version that was made of that before."""
        found = self.store.find(step.layer, key)
        if isinstance(settings, PhotosSettings):
            return self._still_there(found) or self._same_photos(settings)
        return found

    def _stamp(self, settings: StepSettings) -> str:
        """What folders of photos or masks hold now: a run over changed ones is another run."""

        def progress(done: float, total: float) -> None:
            if self.cancelled.is_set():
                raise Cancelled
            self.reporter.stage(self.layer, "Looking at what files hold", done, total)

        known = self.store.root / KNOWN
        if isinstance(settings, PhotosSettings):
            self._held = folder_contents(photo_folders(settings), known, progress)
            return stamp_of(self._held)
        if isinstance(settings, MasksSettings):
            folder = [Path(settings.folder)] if settings.folder else []
            found = folder_contents(folder, known.with_name("mask-" + KNOWN), progress, _mask_files)
            return _mask_stamp(settings, stamp_of(found))
        return ""

    def _still_there(self, version: Version | None) -> Version | None:
        """A version of Photos, if its photos are where it says."""
        if version is None:
            return None
        listed = read_photo_list(self.store.folder(version))
        return version if all(listed.file(p).exists() for p in listed.photos) else None

    def _same_photos(self, settings: PhotosSettings) -> Version | None:
        """The newest version of Photos that an earlier program made with the same settings of photos that hold the same."""
        mine = settings.model_dump(mode="json", exclude=_FOLDERS)
        now = {os.path.normpath(h.folder / h.name): h.content for h in self._held}
        for version in reversed(self.store.versions("photos")):
            try:
                theirs = PhotosSettings.model_validate(version.settings).model_dump(mode="json", exclude=_FOLDERS)
                listed = read_photo_list(self.store.folder(version))
            except (OSError, ValueError):
                continue
            held = {os.path.normpath(listed.file(p)): p.sha for p in listed.photos}
            if theirs == mine and all(held.values()) and held == now:
                return version
        return None

    def _plan(self, layer: str, settings: dict[str, Any]) -> dict[str, float]:
        """Seconds of the stages when the layer was last run, best with the same settings."""
        usual = set(TYPICAL.get(layer, {}))
        timed = [v for v in self.store.versions(layer) if usual & set(v.stages)]
        same = [v for v in timed if v.settings == settings]
        if timed:
            return (same or timed)[-1].stages
        return {name: seconds * self._pace for name, seconds in TYPICAL.get(layer, {}).items()}

    def _learn_pace(self, layer: str, took: dict[str, float]) -> None:
        """How much slower or quicker than usual photos and machine are, for the steps to come."""
        typical = sum(s for name, s in TYPICAL.get(layer, {}).items() if name in took)
        if typical > 2:
            self._pace = sum(took.values()) / typical

    def _one(
        self, step: Step, settings: StepSettings, result: RunResult, executor: LazyExecutor, memory: MemoryWatch
    ) -> None:
        plain = settings.model_dump(mode="json")
        parents = {p: result.versions[p] for p in step.parents}
        self._ahead.begin(step.layer, step.title)
        key = self._key(step, settings, {p: v.key for p, v in parents.items()})
        found = self._found(step, settings, key)
        reused = found is not None
        memory.mark()
        if found is None:
            began = time.monotonic()
            folder = self.store.partial(step.layer, key)
            resumed = any(folder.iterdir())
            context = Context(
                folder, settings, {p: self.store.folder(v) for p, v in parents.items()},
                step.layer, self._ahead, executor, self.cancelled, clock=StageClock(self._plan(step.layer, plain)),
                lineage=self.store.lineage(parents.values()),
            )  # fmt: skip
            try:
                # several threads add up in another order: the same recipe would not give the same figures everywhere
                with threadpool_limits(1, user_api="blas"):
                    figures = step.run(context)
                context.clock.end()
                if not resumed:
                    self._learn_pace(step.layer, context.clock.took)
                found = self.store.finish(
                    step.layer, key, plain, {p: v.number for p, v in parents.items()}, figures, context.findings,
                    time.monotonic() - began, None if resumed else context.clock.took,
                )  # fmt: skip
            except OSError as error:
                if error.errno == 28:
                    raise PlainError(
                        "The disk is full.", "Free some space and run again: it goes on where it stopped."
                    ) from error
                raise
            except BrokenExecutor as error:
                raise PlainError(
                    "A worker process died, most likely for want of memory.",
                    "Close other programs or use a lower grade, and run again: it goes on where it stopped.",
                ) from error
            except MemoryError as error:
                raise PlainError("The machine ran out of memory.", "Use a lower grade or smaller photos.") from error
        else:
            self.store.use(found)
        self._note(found, plain, result, reused, None if reused else round(memory.mark() / 1e6))
