"""Sentences of the program and their catalogues: ``words.py --check`` tells what is missing or unused, ``--missing`` lists it.

Collected are the patterns of ``say`` and ``Said``, what errors, stages, settings and titles say, and what the values of
sentences may be. Sentences have codes for programs (``words/codes.json``): ``--codes`` gives one to each that has none. A
sentence that is worded anew is to keep its code: write the new wording to it there first.
"""

from __future__ import annotations

import ast
import json
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "vast_quarry"
#: calls whose texts are told: name, and which arguments
TOLD = {
    "say": (0,), "Said": (0,), "together": (0,), "as_pattern": (0,), "begin": (1,), "PlainError": (0, 1), "NotFound": (0, 1), "Conflict": (0, 1), "Unreadable": (0,), "stage": (0, 1), "each": (0,),
    "progress": (0,), "setting": (1, 2), "pause": (0,), "pause_at": (0,),
}  # fmt: skip
TOLD_BY_NAME = {"setting": ("unit", "cost", "labels"), "_kind": ("title",), "write": ("line",)}
#: calls whose texts are whole sentences, which have codes
SENTENCES = ("say", "Said", "as_pattern", "PlainError", "NotFound", "Conflict", "Unreadable")
CODES = SOURCE / "words" / "codes.json"
#: parts of the program that only the command line or the rig tells
APART = ("cli", "rig", "core/rig", "server/routers/uploads", "server/problems")
#: words that are put into sentences
WORDS = (
    "camera", "turntable", "rig", "guessed", "typed in", "35 mm equivalent", "focal length and sensor", "lens database",
    "lap", "transition", "establishing", "close-up", "underside", "extra", "overhead", "shot", "for", "turn",
    "camera height", "distance", "tilt", "no EXIF", "not the subject", "none", "own", "A4 round", "A3 round", "Letter round",
)  # fmt: skip


def constants(node: ast.AST) -> Iterator[str]:
    """All texts in a piece of code; of a table those of its values."""
    keys = {k for n in ast.walk(node) if isinstance(n, ast.Dict) for k in n.keys}
    for n in ast.walk(node):
        if n in keys:
            continue
        if isinstance(n, ast.Constant) and isinstance(n.value, str):
            yield n.value


def _patterns(node: ast.expr, around: ast.AST, module: ast.Module) -> Iterator[str]:
    """Texts that an argument may be: itself, both of a choice, or what its name is set to."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        yield node.value
    elif isinstance(node, ast.IfExp):
        yield from _patterns(node.body, around, module)
        yield from _patterns(node.orelse, around, module)
    elif isinstance(node, ast.BoolOp):
        for v in node.values:
            yield from _patterns(v, around, module)
    elif isinstance(node, ast.Subscript):  # a table of texts
        yield from _of_name(ast.unparse(node.value), module, module)
    elif isinstance(node, ast.List | ast.Tuple):
        for v in node.elts:
            yield from _patterns(v, around, module)
    elif isinstance(node, ast.Name):
        yield from _of_name(node.id, around, module)
        if node.id.isupper():
            yield from _of_name(node.id, module, module)


def _of_name(name: str, where: ast.AST, module: ast.Module) -> Iterator[str]:
    """Texts that a name is set to, by itself, from a table of the module, or in turn."""
    for n in ast.walk(where):
        if isinstance(n, ast.Assign):
            set_here = any(name in ast.unparse(t).strip("()").split(", ") for t in n.targets)
        else:
            set_here = isinstance(n, ast.AnnAssign) and ast.unparse(n.target) == name
        if set_here and (value := getattr(n, "value", None)) is not None:
            if isinstance(value, ast.Subscript) and where is not module:
                yield from _of_name(ast.unparse(value.value), module, module)
            else:
                yield from _joined(value)
        elif isinstance(n, ast.For | ast.comprehension) and name in ast.unparse(n.target).strip("()").split(", "):
            if isinstance(n.iter, ast.Subscript):
                yield from _of_name(ast.unparse(n.iter.value), module, module)
            else:
                yield from constants(n.iter)


def _joined(node: ast.expr) -> Iterator[str]:
    """Texts of a value, with a sum of a text and a choice as both sums."""
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        for a in _joined(node.left):
            for b in _joined(node.right):
                yield a + b
    elif isinstance(node, ast.IfExp):
        yield from _joined(node.body)
        yield from _joined(node.orelse)
    else:
        yield from constants(node)


def collect(calls: tuple[str, ...] | None = None) -> dict[str, str]:
    """All texts that are told, with the file that tells each; with ``calls`` only what is told by these."""
    out: dict[str, str] = {} if calls else dict.fromkeys(WORDS, "values")
    for file in sorted(SOURCE.rglob("*.py")):
        where = str(file.relative_to(SOURCE))
        if where.startswith(APART):
            continue
        module = ast.parse(file.read_text())
        around: dict[ast.AST, ast.AST] = {}
        for f in ast.walk(module):  # inner functions come later and win
            if isinstance(f, ast.FunctionDef | ast.AsyncFunctionDef):
                around.update(dict.fromkeys(ast.walk(f), f))
        for n in ast.walk(module):
            if isinstance(n, ast.Call):
                name = n.func.attr if isinstance(n.func, ast.Attribute) else getattr(n.func, "id", "")
                if calls and name not in calls:
                    continue
                args = [n.args[k] for k in TOLD.get(name, ()) if k < len(n.args)]
                args += [k.value for k in n.keywords if k.arg in TOLD_BY_NAME.get(name, ())]
                for a in args:
                    found = constants(a) if isinstance(a, ast.Dict) else _patterns(a, around.get(n, module), module)
                    out.update(dict.fromkeys((t for t in found if any(c.isalpha() for c in t)), where))
            elif isinstance(n, ast.AnnAssign | ast.Assign) and not calls:
                target = ast.unparse(n.target if isinstance(n, ast.AnnAssign) else n.targets[0])
                if target == "title" and n.value is not None:
                    out.update(dict.fromkeys(constants(n.value), where))
    for layer in ("masks", "cameras", "surface", "texture", "finish", "dispatch"):
        out.pop(layer, None)
    return out


def code_for(text: str, taken: set[str]) -> str:
    """A code for a sentence: its first words, and more of them while that is another's."""
    plain, before = text, ""
    while plain != before:  # values and cases, from the inside out
        before, plain = plain, re.sub(r"\{[^{}]*\}", " ", plain)
    words = re.findall(r"[a-z0-9]+", plain.lower()) or re.findall(r"[a-z0-9]+", text.lower())
    for count in range(min(5, len(words)), len(words) + 1):
        if (code := "-".join(words[:count])) not in taken:
            return code
    return next(c for k in range(2, 1000) if (c := f"{'-'.join(words)[:60]}-{k}") not in taken)


def give_codes() -> None:
    """Give a code to each sentence that has none, and drop those of sentences that are told no more."""
    told = sorted(collect(SENTENCES))
    codes = {c: t for c, t in json.loads(CODES.read_text("utf-8")).items() if t in told} if CODES.exists() else {}
    for text in told:
        if text not in codes.values():
            codes[code_for(text, set(codes))] = text
    CODES.write_text(json.dumps(dict(sorted(codes.items())), ensure_ascii=False, indent=1) + "\n", "utf-8")


def main() -> None:
    """Check the catalogues, or list what is missing."""
    if "--codes" in sys.argv:
        give_codes()
        return
    told = collect()
    wrong = False
    texts_with_code = set(json.loads(CODES.read_text("utf-8")).values())
    for text in sorted(set(collect(SENTENCES)) ^ texts_with_code):
        wrong = True
        print(f"codes.json: {'no longer told' if text in texts_with_code else 'no code'}: {text!r}")
    for file in sorted(f for f in (SOURCE / "words").glob("*.json") if f != CODES):
        have = json.loads(file.read_text("utf-8"))
        missing, unused = sorted(set(told) - set(have)), sorted(set(have) - set(told))
        if "--missing" in sys.argv:
            print(json.dumps(dict.fromkeys(missing, ""), ensure_ascii=False, indent=1))
            continue
        for kind, texts in (("missing", missing), ("unused", unused)):
            for text in texts:
                wrong = True
                print(f"{file.name}: {kind}: {text!r} ({told.get(text, '-')})")
    if wrong and "--check" in sys.argv:
        sys.exit(1)


if __name__ == "__main__":
    main()
