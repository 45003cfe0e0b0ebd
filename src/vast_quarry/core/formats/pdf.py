"""Sheets to print: marker mats at true size, shot lists."""

from __future__ import annotations

import io
import math

from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import getSampleStyleSheet
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from vast_quarry.core.plan.mats import FAMILY, MARGIN, RULER, Mat
from vast_quarry.core.words import Said, in_language, say


def mat_pdf(mat: Mat, language: str = "en") -> bytes:
    """A mat as PDF: vector, one millimetre is one millimetre."""
    out = io.BytesIO()
    page = Canvas(out, pagesize=(mat.paper[0] * mm, mat.paper[1] * mm), pageCompression=1, invariant=1)
    page.setTitle("Marker mat")
    page.saveState()
    page.translate(mat.middle[0] * mm, mat.middle[1] * mm)
    for shape, dark in mat.shapes:
        page.setFillGray(1 - dark)
        path = page.beginPath()
        path.moveTo(*(shape[0] * mm))
        for p in shape[1:]:
            path.lineTo(*(p * mm))
        path.close()
        page.drawPath(path, stroke=0, fill=1)
    page.setFillGray(0)
    for m in mat.markers:
        left, top = m.corners[0]
        cell = (m.corners[1, 0] - left) / len(m.cells)
        for j, row in enumerate(m.cells):
            # cells of a row that touch are one rectangle: no hairlines between them
            k = 0
            while k < len(row):
                if not row[k]:
                    k += 1
                    continue
                end = k
                while end < len(row) and row[end]:
                    end += 1
                height = cell * (1.02 if j < len(m.cells) - 1 and m.cells[j + 1, k:end].all() else 1.0)
                page.rect(
                    (left + k * cell) * mm,
                    (top - j * cell - height) * mm,
                    (end - k) * cell * mm,
                    height * mm,
                    stroke=0,
                    fill=1,
                )
                k = end
    if mat.round_radius is not None:
        page.setLineWidth(0.3)
        page.setDash(3, 3)
        page.circle(0, 0, mat.round_radius * mm, stroke=1, fill=0)
    page.restoreState()
    _foot(page, mat, language)
    page.showPage()
    page.save()
    return out.getvalue()


def _foot(page: Canvas, mat: Mat, language: str) -> None:
    """The ruler, and what it is for."""
    x, y = MARGIN * mm, (MARGIN + 5) * mm
    page.setLineWidth(0.25 * mm)
    page.line(x, y, x + RULER * mm, y)
    for k in range(0, int(RULER) + 1, 5):
        page.line(x + k * mm, y, x + k * mm, y + (4.0 if k % 50 == 0 else 2.5 if k % 10 == 0 else 1.5) * mm)
    page.setFont("Helvetica", 7)
    ruler = say("100 mm. Print at 100 %, and measure: if this is not 100 mm long, the printer has scaled the mat.")
    page.drawString(x, y - 3.5 * mm, ruler.in_language(language))
    numbers = say(
        "{family}, {first} to {last}", family=FAMILY, first=mat.markers[0].number, last=mat.markers[-1].number
    )
    page.drawString(x + (RULER + 5) * mm, y + 0.5 * mm, numbers.in_language(language))


#: radius of the disc of step marks (mm)
DISC = 88.0
#: length of the arm of the elevation stops (mm)
ARM = 150.0


def step_marks_pdf(stops: int, elevations: list[float], language: str = "en") -> bytes:
    """Step marks for a table turned by hand, and stops of elevation, at true size on A4.

    Parameters
    ----------
    stops : int
        Marks of a whole turn.
    elevations : list of float
        Degrees above the level; written on a second page as lines from a corner, to hold beside a tilted camera.
    """
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4, pageCompression=1, invariant=1)
    page.setTitle(say("Step marks, {count} a turn", count=stops).in_language(language))
    page.translate(A4[0] / 2, A4[1] / 2 + 10 * mm)
    page.setLineWidth(0.2 * mm)
    page.circle(0, 0, DISC * mm, stroke=1, fill=0)
    page.circle(0, 0, 1 * mm, stroke=1, fill=0)
    for k in range(stops):
        a = 2 * math.pi * k / stops
        page.saveState()
        page.rotate(math.degrees(a))
        inner = DISC - (16 if k % 3 == 0 else 10)
        page.line(inner * mm, 0, DISC * mm, 0)
        page.setFont("Helvetica", 9)
        page.translate((inner - 6) * mm, 0)
        page.rotate(-90)
        page.drawCentredString(0, 0, str(k + 1))
        page.restoreState()
    page.setFont("Helvetica", 8)
    how = say(
        "{count} stops, {degrees} degrees each. Cut along the circle; turn from mark to mark.",
        count=stops,
        degrees=round(360 / stops, 3),
    )
    page.drawCentredString(0, -(DISC + 8) * mm, how.in_language(language))
    _check_line(page, -RULER / 2, -(DISC + 18), language)
    page.showPage()
    page.setFont("Helvetica", 8)
    x0, y0 = 25 * mm, 60 * mm
    page.setLineWidth(0.2 * mm)
    page.line(x0, y0, x0 + ARM * mm, y0)
    for e in sorted(elevations):
        a = math.radians(e)
        x, y = x0 + ARM * mm * math.cos(a), y0 + ARM * mm * math.sin(a)
        page.line(x0, y0, x, y)
        page.drawString(x + 2 * mm, y - 1 * mm, say("{degrees} degrees", degrees=round(e)).in_language(language))
    what = say("Elevations of the laps: the lower line is level, the corner is at the subject's middle.")
    page.drawString(x0, y0 - 10 * mm, what.in_language(language))
    _check_line(page, x0 / mm, y0 / mm - 24, language)
    page.showPage()
    page.save()
    return out.getvalue()


def _check_line(page: Canvas, x: float, y: float, language: str) -> None:
    """A line of 100 mm from x, y (mm) to measure the print by."""
    page.line(x * mm, y * mm, (x + RULER) * mm, y * mm)
    for k in (0.0, RULER):
        page.line((x + k) * mm, (y - 2) * mm, (x + k) * mm, (y + 2) * mm)
    page.drawString((x + 2) * mm, (y + 2) * mm, say("100 mm when printed at 100 %").in_language(language))


def shot_list_pdf(
    title: str,
    facts: list[Said],
    rows: list[list[str]],
    map_: list[tuple[float, float]],
    reach: float,
    language: str = "en",
) -> bytes:
    """A shot list to take along.

    Parameters
    ----------
    title : str
    facts : list of Said
        Sentences above the list.
    rows : list of list of str
        First row is the heading, in English.
    map_ : list of (float, float)
        Where the shots stand, seen from above, in metres.
    reach : float
        Half the size of the subject in metres, for the map.
    """
    out = io.BytesIO()
    document = SimpleDocTemplate(
        out,
        pagesize=A4,
        leftMargin=16 * mm,
        rightMargin=16 * mm,
        topMargin=14 * mm,
        bottomMargin=14 * mm,
        title=title,
        invariant=1,
    )
    styles = getSampleStyleSheet()
    story = [
        Paragraph(_safe(title), styles["Title"]),
        *[Paragraph(_safe(f.in_language(language)), styles["BodyText"]) for f in facts],
        Spacer(1, 4 * mm),
    ]
    table = Table(
        [["", *(in_language(word, language) for word in rows[0])], *[["", *r] for r in rows[1:]]],
        repeatRows=1,
        hAlign="LEFT",
    )
    ticks = [("BOX", (0, k), (0, k), 0.6, colors.black) for k in range(1, len(rows))]
    table.setStyle(
        TableStyle([
            ("FONTSIZE", (0, 0), (-1, -1), 8), ("LINEBELOW", (0, 0), (-1, 0), 0.8, colors.black),
            ("LINEBELOW", (1, 1), (-1, -1), 0.2, colors.grey), ("TOPPADDING", (0, 0), (-1, -1), 1.5),
            ("BOTTOMPADDING", (0, 0), (-1, -1), 1.5), ("ALIGN", (1, 0), (-1, -1), "RIGHT"), *ticks,
        ])
    )  # fmt: skip
    story.append(table)

    def plan_view(page: Canvas, _: object) -> None:
        """A map beside the list on the first page."""
        side = 74 * mm
        x0, y0 = A4[0] - 16 * mm - side / 2, A4[1] / 2
        far = max([math.hypot(*p) for p in map_] + [reach]) or 1.0
        scale = side / 2 / far
        page.setFillGray(0.75)
        page.rect(x0 - reach * scale, y0 - reach * scale, 2 * reach * scale, 2 * reach * scale, stroke=0, fill=1)
        page.setFillGray(0)
        page.setFont("Helvetica", 6)
        for k, (x, y) in enumerate(map_, 1):
            page.circle(x0 + x * scale, y0 + y * scale, 0.7 * mm, stroke=0, fill=1)
            if len(map_) <= 80:
                page.drawString(x0 + x * scale + 0.9 * mm, y0 + y * scale + 0.3 * mm, str(k))
        page.drawCentredString(
            x0, y0 - side / 2 - 3 * mm, say("from above; the front is at the bottom").in_language(language)
        )

    document.build(story, onFirstPage=plan_view)
    return out.getvalue()


def _safe(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
