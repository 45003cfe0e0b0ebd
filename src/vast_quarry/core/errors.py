"""Failures that a user can act on."""

from __future__ import annotations

from vast_quarry.core.words import Said, together


class PlainError(Exception):
    """What is wrong and what to do, in one or two plain sentences.

    Parameters
    ----------
    what : str
        What happened and why.
    remedy : str, optional
        What the user can do about it.
    """

    def __init__(self, what: str, remedy: str = "") -> None:
        super().__init__(f"{what} {remedy}".strip())
        self.what = what
        self.remedy = remedy

    @property
    def said(self) -> Said:
        """All of it as one sentence, which can be said in another language."""
        return together([s if isinstance(s, Said) else Said(s) for s in (self.what, self.remedy) if s])

    def __reduce__(self) -> tuple[type[PlainError], tuple[str, str]]:
        return type(self), (self.what, self.remedy)
