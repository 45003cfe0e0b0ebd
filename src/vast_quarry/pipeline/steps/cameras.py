"""Cameras: features, matches, alignment, standing upright, keep box."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar, Literal, cast

import numpy as np
from pydantic import Field, field_validator, model_validator

from vast_quarry.core.align.frame import Kind
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.aligned import as_solution
from vast_quarry.pipeline.alignment_words import told
from vast_quarry.pipeline.attempts import best_attempt
from vast_quarry.pipeline.backdrop import heap, masked_as_still, stands_behind, surroundings_help
from vast_quarry.pipeline.figures import CamerasFigures
from vast_quarry.pipeline.going_on import go_on
from vast_quarry.pipeline.grouped import told_of, write_told
from vast_quarry.pipeline.looking import with_subject
from vast_quarry.pipeline.matching import share_standing_still, still_backdrop
from vast_quarry.pipeline.picking import PickedPlace
from vast_quarry.pipeline.reuse import keep_only
from vast_quarry.pipeline.scaling import MeasuredBar
from vast_quarry.pipeline.standing import aligned_before, mat_over, stand, stood_again, stood_by_hand
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import clean_name, read_photo_list


class CamerasSettings(StepSettings):
    """How to align."""

    came_later: ClassVar[frozenset[str]] = frozenset({"center", "subject"})

    photo_scale: float = setting(
        1.0,
        "Photo size for features",
        "Features are sought in the photo made smaller to this share of its sides.",
        unit="of the photo", usual=(0.5, 1), cost="Twice the size takes about four times as long.", gt=0, le=1,
    )  # fmt: skip
    largest_side: int = setting(
        3200,
        "Longest side for features",
        "Photos with a longer side are made smaller before features are sought.",
        unit="px", usual=(2000, 6000), cost="Twice the side takes about four times as long.", ge=400,
    )  # fmt: skip
    features: int = setting(
        8000,
        "Features per photo, at most",
        "More help where the subject has little texture or is small in the photo.",
        main=True, usual=(4000, 16_000), cost="Twice as many: matching takes two to four times as long.",
        ge=200, le=60_000,
    )  # fmt: skip
    partners: int = setting(
        14,
        "Match each photo with up to",
        "The photos that look most alike are matched; more help where laps hang together by few photos.",
        main=True, unit="photos", usual=(8, 40), cost="Matching takes longer in proportion.", ge=2, le=200,
    )  # fmt: skip
    local_contrast: bool = setting(
        False,
        "Lift contrast in flat areas",
        "Contrast is evened out in small fields before features are sought: for dark stone and faint paint.",
    )
    ratio: float = setting(
        0.85,
        "Match strictness (lower is stricter)",
        "How clearly a match has to beat the next best one: its distance over that one's.",
        usual=(0.7, 0.9), gt=0.3, lt=1.0,
    )  # fmt: skip
    features_obey_masks: Literal["auto", "always", "never"] = setting(
        "auto",
        "Features obey masks",
        "On a turntable what masks leave out must not be used to align; on a walk round the subject it helps.",
        main=True,
        labels={
            "auto": "where surroundings stand still",
            "always": "always",
            "never": "never",
        },
    )  # fmt: skip
    tilted_views: Literal["auto", "always", "never"] = setting(
        "auto",
        "Match steep angles",
        "Features are sought besides in photos squeezed as if seen from higher up: ties laps at heights far apart.",
        cost="Features and matching take two to four times as long.",
        labels={"auto": "where photos fall apart", "always": "always", "never": "never"},
    )  # fmt: skip
    second_try: Literal["auto", "never"] = setting(
        "auto",
        "If photos cannot be placed",
        "Photos that could not be placed get another try, with contrast lifted in flat areas, more features and more partners.",
        cost="Features and matching take two to three times as long.",
        labels={"auto": "try again with contrast lifted", "never": "leave it at that"},
    )  # fmt: skip
    sets_apart: bool = setting(
        False,
        "Align each set by itself, then join them",
        "For a subject that was turned over or shot in other surroundings: sets are joined by what they share, then all "
        "cameras are solved afresh. Mask the subject.",
    )  # fmt: skip
    sets: dict[str, str] = Field(
        default_factory=dict, description="Name of the set of each photo, by path; those without are one set"
    )
    places: list[PickedPlace] = Field(
        default_factory=list,
        max_length=100,
        description="Places picked in photos of groups that nothing else ties: three join them",
    )
    go_on: Literal["auto", "never"] = setting(
        "auto",
        "When photos change",
        "Photos that came are placed by the alignment that is there, whose level, scale and keep box stay; or all is aligned "
        "afresh.",
        labels={"auto": "go on from the alignment before", "never": "align all afresh"},
    )  # fmt: skip
    ground: bool = setting(
        True, "Stand the model on the ground", "A ground plane is looked for, and becomes height 0.", main=True
    )
    kind: Kind = setting(
        "object",
        "Kind of subject",
        "Says what stands upright, what faces the front, and what is kept: of an object what stands in the middle, of the "
        "others all that was photographed. Try another where the model lies or leans.",
        main=True,
        labels={
            "object": "an object",
            "place": "a place, all of it",
            "facade": "a wall or facade",
            "interior": "a room, from inside",
            "strip": "a strip of ground, from above",
        },
    )  # fmt: skip
    mat: str = setting(
        "none",
        "Marker mat in the photos",
        "A printed mat that stands in the photos gives scale and level.",
        main=True, pattern="^(none|A4|A3|Letter|A4 round|A3 round|Letter round|own)$",
    )  # fmt: skip
    mat_markers: dict[int, list[tuple[float, float]]] | None = Field(
        None, description="Corners in mm of the markers of an own mat, by number"
    )

    @model_validator(mode="before")
    @classmethod
    def _places_were_a_yes(cls, values: Any) -> Any:
        """Whether the whole place is kept was a setting of its own once."""
        if isinstance(values, dict) and "place" in values:
            values = dict(values)
            if values.pop("place"):
                values.setdefault("kind", "place")
        return values

    @field_validator("features_obey_masks", mode="before")
    @classmethod
    def _yes_and_no(cls, value: Any) -> Any:
        """It was a yes or no once."""
        return {True: "always", False: "never"}.get(value, value) if isinstance(value, bool) else value

    group: int = setting(
        1,
        "Group of photos to use",
        "Where photos fall apart into groups that nothing ties, each stands by itself; 1 is the largest.",
        usual=(1, 3), ge=1, le=99,
    )  # fmt: skip
    subject: int = setting(
        1,
        "Which body is the subject",
        "Where several things stand in the photos: 1 is what the photos are about by all that they show, 2 the next likely.",
        usual=(1, 3), ge=1, le=9,
    )  # fmt: skip
    height: float | None = setting(
        None,
        "Rough height of the subject",
        "Gives the scale where neither a mat nor a measured distance does. Empty: the longest side is taken as 1 m.",
        unit="mm", usual=(50, 5000), gt=0, le=1e6,
    )  # fmt: skip
    bars: list[MeasuredBar] = Field(
        default_factory=list, max_length=100, description="Distances that were measured between two places"
    )

    @property
    def height_m(self) -> float | None:
        """The rough height in metres."""
        return None if self.height is None else self.height / 1000

    level: list[tuple[Literal["x", "y", "z"], float]] = Field(
        default_factory=list, max_length=100, description="Turns by hand about axes of the world, in order (degrees)"
    )
    center: tuple[float, float, float] | None = Field(
        None, description="Place that stands over the origin, in space as the model was found"
    )


class CamerasStep:
    """Aligns photos."""

    layer: ClassVar[str] = "cameras"
    title: ClassVar[str] = "Cameras"
    parents: ClassVar[tuple[str, ...]] = ("photos", "masks")
    settings_model: ClassVar[type[StepSettings]] = CamerasSettings

    def run(self, context: Context) -> CamerasFigures:
        """Write ``solution.npz`` and ``cameras.json``."""
        listed = read_photo_list(context.parents["photos"])
        photos = listed.usable
        before = aligned_before(context)
        if before is not None:
            return stood_again(context, listed, before)
        masks = sum(mask_file(context.parents["masks"], p.number) is not None for p in photos)
        obey = context.settings.features_obey_masks == "always"
        if masks and context.settings.features_obey_masks == "auto":
            # what was turned over between sets stands in other surroundings
            still = masked_as_still(context)
            obey = context.settings.sets_apart or still or not surroundings_help(context, listed, photos)
            if still:
                context.found(Said("Masks were made because the background stands still, so features obey them."))
            elif not obey:
                context.found(
                    Said(
                        "What masks leave out moves with the subject and helps to align; points and texture obey masks."
                    )
                )

        went_on = go_on(context, listed, photos, obey)
        # photos that went on from an alignment are of a scene that holds
        looked = went_on is None and masks < 0.5 * len(photos)
        behind = stands_behind(context, listed, photos) if looked else None

        def judged(model: Model | Trouble) -> Model | Trouble:
            """What stands still behind the subject was taken for the scene, whatever else seems to be the matter."""
            if behind is None:
                return model
            if isinstance(model, Trouble):
                return Trouble("still backdrop", model.photos)
            return heap(model, behind) or model

        best = went_on.attempt if went_on else best_attempt(context, listed, photos, obey, judged)
        if isinstance(best.model, Trouble) and masks and context.settings.features_obey_masks == "auto":
            # nothing holds with masks taken one way: before that is told they are taken the other way
            other = best_attempt(context, listed, photos, not obey, judged)
            if isinstance(other.model, Model):
                best = other
                context.found(
                    Said("Photos could be aligned once features obeyed the masks.")
                    if not obey
                    else Said("Photos could be aligned once features were sought outside of the masks too.")
                )
        model, data, pairs, features = best.model, best.data, best.pairs, best.features
        if isinstance(model, Trouble):
            if model.cause in ("nothing moves", "no parallax"):
                model = still_backdrop(context, photos, features) or model
            raise told(model, [clean_name(p.path) for p in photos])
        laid = None if went_on else mat_over(context, listed, photos, model)
        context.stage("Standing the model up", 0, 1)
        no_ground = features.masked >= 0.5 * len(photos) or not context.settings.ground
        found, stood = [], []
        for number, group in enumerate((model, *model.apart), 1):
            mat = laid.into if laid and group is model else None
            as_before = went_on.standing if went_on and group is model else None
            standing = as_before or stand(group, no_ground, mat, context.settings.kind)
            if as_before is None and context.settings.kind == "object":
                standing = with_subject(context, listed, photos, group, standing, mat is not None, number)
            elsewhere = np.any([m.placed for m in (model, *model.apart) if m is not group], axis=0)
            solution = as_solution(features.files, photos, group, standing, elsewhere & ~group.placed)
            scale_from = went_on.scale_from if went_on else "mat" if mat else "nothing"
            found.append(replace(solution, scale_from=scale_from))
            stood.append(standing)
        told_of_each = told_of(context, photos, model, found, stood, data, features, pairs)
        if laid is not None:
            told_of_each[0].figures |= {"mat_corners": laid.corners, "mat_residual_mm": round(laid.residual_mm, 4)}
        write_told(context.folder, told_of_each)
        mine = told_of_each[min(context.settings.group, len(found)) - 1]
        for sentence in mine.findings:
            context.found(sentence)
        figures = cast(CamerasFigures, mine.figures)
        behind_it = share_standing_still(context.folder)
        if behind_it is not None:
            figures |= {"standing_still_percent": round(100 * behind_it, 1)}
            context.found(
                say(
                    "Something stands still behind the subject ({percent} % of what photos have in common): it was taken for the "
                    "backdrop, and the cameras follow what moves before it.",
                    percent=round(100 * behind_it),
                )
            )
        left_out = features.share_left_out()
        if left_out is not None:
            figures |= {"features_left_out_percent": round(100 * left_out, 1)}
            context.found(say("Masks left out {percent} % of the features.", percent=round(100 * left_out)))
        keep_only(context.folder, {*features.files, *best.files})
        return figures | stood_by_hand(context, listed, found, figures)
