"""What the product stands on may be given away with it: no package under a licence that asks more than ours.

The identifiers are those of SPDX (spdx.org/licenses) and of PyPI's classifiers; what each wheel contains beside its own
code is told in ``docs/dependencies.md``.
"""

from __future__ import annotations

import json
import re
from importlib.metadata import Distribution, PackageNotFoundError, distribution
from pathlib import Path

import pytest
from packaging.requirements import Requirement

ROOT = Path(__file__).parents[2]
#: licences that fit, as they are written in packages; TOST-1.0 is Apache-2.0 with another clause on trademarks
FITS = re.compile(
    r"Redistribution and use in source and binary forms|MIT|BSD|Apache|ISC|PSF|Python Software Foundation|HPND|CMU|Zlib|0BSD|Unlicense|MPL-2|Mozilla|LGPL|CC0|OFL|BlueOak|TOST-1\.0",
    re.IGNORECASE,
)
STRICT = re.compile(r"(?<!L)(?<!Lesser )A?GPL|(?<!Lesser )General Public License", re.IGNORECASE)


def closure() -> dict[str, Distribution]:
    """The product's own requirements and theirs, without what is only for development."""
    found: dict[str, Distribution] = {}
    wanted = ["vast-quarry"]
    while wanted:
        name = wanted.pop()
        try:
            d = distribution(name)
        except PackageNotFoundError:  # not for this system
            continue
        key = re.sub(r"[-_.]+", "-", d.metadata["Name"]).lower()
        if key in found:
            continue
        found[key] = d
        for text in d.requires or ():
            r = Requirement(text)
            if r.marker is None or r.marker.evaluate({"extra": ""}):
                wanted.append(r.name)
    return found


def licence(d: Distribution) -> str:
    """All that a package says of its licence, in short."""
    told = [d.metadata.get("License-Expression") or "", *(d.metadata.get_all("Classifier") or [])]
    told = [t for t in told if t and (not t.startswith("Classifier") or "License" in t)]
    told = [
        t
        for t in told
        if not t.startswith(
            (
                "Programming",
                "Development",
                "Intended",
                "Operating",
                "Topic",
                "Typing",
                "Framework",
                "Natural",
                "Environment",
            )
        )
    ]
    return " | ".join([*told, (d.metadata.get("License") or "")[:600]])


def test_licences_of_python_packages_fit() -> None:
    packages = closure()
    assert len(packages) > 30
    wrong = {}
    for name, d in packages.items():
        text = licence(d)
        if not text:
            files = [f for f in d.files or [] if re.search(r"licen[cs]e|copying", f.name, re.IGNORECASE)]
            text = " | ".join(str(f.locate().read_text(errors="replace"))[:400] for f in files)  # type: ignore[attr-defined]
        if name != "vast-quarry" and (not FITS.search(text) or STRICT.search(text)):
            wrong[name] = text[:200]
    assert not wrong


def test_licences_of_the_pages_packages_fit() -> None:
    lock = ROOT / "web" / "package-lock.json"
    packages = json.loads(lock.read_text())["packages"]
    shipped = {k: v for k, v in packages.items() if k and not v.get("dev")}
    assert len(shipped) > 5
    # combine-errors says "MIT" in its Readme only
    said = {k: v.get("license") or ("MIT" if k.endswith("/combine-errors") else "") for k, v in shipped.items()}
    wrong = {k: v for k, v in said.items() if not FITS.search(v) or STRICT.search(v)}
    assert not wrong


@pytest.mark.parametrize("name", ["requirements.lock", "requirements-dev.lock"])
def test_every_package_of_a_lock_has_hashes_and_every_direct_one_a_reason(name: str) -> None:
    text = (ROOT / name).read_text()
    entries = [e for e in re.split(r"\n(?=[A-Za-z0-9])", text) if "==" in e]
    assert len(entries) > 30
    assert [e.split()[0] for e in entries if "--hash=sha256:" not in e] == []
    reasons = (ROOT / "docs" / "dependencies.md").read_text().lower()
    direct = [Requirement(t) for t in distribution("vast-quarry").requires or ()]
    missing = [r.name for r in direct if r.name.lower() not in reasons and r.name not in ("setuptools", "wheel")]
    assert missing == []


def test_the_licence_is_there_in_full() -> None:
    text = (ROOT / "LICENSE").read_text()
    assert "Apache License" in text
    assert "END OF TERMS AND CONDITIONS" in text
