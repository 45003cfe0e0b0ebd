"""Failures that a user can act on."""

from __future__ import annotations


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
