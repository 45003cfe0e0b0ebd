"""Steps that were done by hand, of each project and layer, in the database: done ones in order, then those taken back."""

from __future__ import annotations

from typing import Any, Literal

from sqlalchemy import delete, func
from sqlmodel import Session, col, select

from vast_quarry.core.words import Said
from vast_quarry.server.models import HistoryStep

StepLayer = Literal["photos", "masks"]


def _of(project_id: int, layer: StepLayer) -> Any:  # a condition, whose type sqlalchemy does not name
    return (col(HistoryStep.project_id) == project_id) & (col(HistoryStep.layer) == layer)


def add(session: Session, project_id: int, layer: StepLayer, says: Said, change: dict[str, Any]) -> HistoryStep:
    """Put a step at the end; what was taken back before cannot be done again any more."""
    session.exec(delete(HistoryStep).where(_of(project_id, layer), col(HistoryStep.done).is_(False)))
    step = HistoryStep(project_id=project_id, layer=layer, says=says, change=change)
    session.add(step)
    session.flush()
    return step


def keep_latest(session: Session, project_id: int, layer: StepLayer, most: int) -> None:
    """Forget all but the latest steps."""
    mine = _of(project_id, layer)
    kept = session.exec(select(HistoryStep.id).where(mine).order_by(col(HistoryStep.id).desc()).limit(most)).all()
    if kept:
        session.exec(delete(HistoryStep).where(mine, col(HistoryStep.id) < min(k for k in kept if k is not None)))


def next_of(session: Session, project_id: int, layer: StepLayer, forth: bool) -> HistoryStep | None:
    """The step that is next to be taken back, or to be done again."""
    found = select(HistoryStep).where(_of(project_id, layer), col(HistoryStep.done).is_(not forth))
    order = col(HistoryStep.id).asc() if forth else col(HistoryStep.id).desc()
    return session.exec(found.order_by(order).limit(1)).first()


def done(session: Session, project_id: int, layer: StepLayer) -> list[HistoryStep]:
    """Steps that stand, in order."""
    found = select(HistoryStep).where(_of(project_id, layer), col(HistoryStep.done).is_(True))
    return list(session.exec(found.order_by(col(HistoryStep.id))).all())


def counts(session: Session, project_id: int, layer: StepLayer) -> tuple[int, int]:
    """How many stand, and how many were taken back."""
    rows = session.exec(
        select(HistoryStep.done, func.count()).where(_of(project_id, layer)).group_by(col(HistoryStep.done))
    ).all()
    by = {bool(stands): int(n) for stands, n in rows}
    return by.get(True, 0), by.get(False, 0)
