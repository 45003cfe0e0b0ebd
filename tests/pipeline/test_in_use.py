"""What a run takes: versions in use as they are, or everything by the settings; with small steps of our own."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar

import pytest
from pydantic import Field

from vast_quarry.pipeline import run as run_module
from vast_quarry.pipeline.recipe import Recipe
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.step import Context, StepSettings
from vast_quarry.pipeline.store import Store


class Plain(StepSettings):
    """One number."""

    n: int = Field(1)


class Photos:
    """A step that hands its number on."""

    layer: ClassVar[str] = "cameras"
    title: ClassVar[str] = "Cameras"
    parents: ClassVar[tuple[str, ...]] = ()
    settings_model: ClassVar[type[StepSettings]] = Plain

    def run(self, context: Context) -> dict[str, Any]:
        """Write what it took."""
        took = [p.joinpath("took").read_text() for p in context.parents.values()]
        (context.folder / "took").write_text(f"{self.layer}{context.settings.n}({','.join(took)})")
        return {}


class Points(Photos):
    """The second step."""

    layer: ClassVar[str] = "points"
    parents: ClassVar[tuple[str, ...]] = ("cameras",)


class Surface(Photos):
    """The third step."""

    layer: ClassVar[str] = "surface"
    parents: ClassVar[tuple[str, ...]] = ("points",)


class Silent:
    """Says nothing."""

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None: ...
    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None: ...
    def end(self, layer: str, seconds: float, reused: bool) -> None: ...
    def say(self, text: str) -> None: ...


@pytest.fixture
def store(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Store:
    monkeypatch.setattr(run_module, "STEPS", (Photos(), Points(), Surface()))
    return Store(tmp_path)


def made(store: Store, until: str, from_in_use: bool = True, **numbers: int) -> str:
    """What a run until a layer took."""
    recipe = Recipe(layers={k: {"n": n} for k, n in numbers.items()})
    result = Runner(store, Silent()).run(recipe, {}, until, from_in_use)
    return (store.folder(result.versions[until]) / "took").read_text()


def test_what_is_missing_is_run_first(store: Store) -> None:
    assert made(store, "surface") == "surface1(points1(cameras1()))"


def test_a_layer_takes_the_versions_in_use_whatever_the_settings_say_now(store: Store) -> None:
    made(store, "points", points=1)
    made(store, "points", points=2)
    assert made(store, "surface", points=7) == "surface1(points2(cameras1()))"
    store.use(store.versions("points")[0])
    assert made(store, "surface", points=7) == "surface1(points1(cameras1()))"
    assert store.in_use()["points"] == 1


def test_everything_goes_by_the_settings(store: Store) -> None:
    made(store, "surface")
    assert made(store, "surface", from_in_use=False, cameras=3) == "surface1(points1(cameras3()))"


def test_what_is_out_of_date_is_made_again_from_what_is_in_use(store: Store) -> None:
    made(store, "surface")
    made(store, "cameras", cameras=2)
    assert store.out_of_date() == ["points"]
    assert made(store, "surface", cameras=9) == "surface1(points1(cameras2()))"
    assert store.out_of_date() == []
    # going back finds what was made before and computes nothing
    store.use(store.versions("cameras")[0])
    assert made(store, "surface") == "surface1(points1(cameras1()))"
    assert len(store.versions("surface")) == 2
