"""Figures in files: PNG, SVG, PDF, and the SVG that stands in a page."""

from __future__ import annotations

from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from ask_above.errors import QuestionError
from ask_above.show.figures.lettering import LIGHT, without_complaints

if TYPE_CHECKING:
    from matplotlib.axes import Axes

ENDINGS: Final = ("png", "svg", "pdf")


def write(axes: Axes, file: str | Path) -> None:
    """Write the figure that axes stand in, as PNG, SVG or PDF by the file's ending.

    Raises :class:`~ask_above.errors.QuestionError` for another ending, ``OSError`` where the file cannot be written.
    """
    import io

    from matplotlib import rc_context

    from ask_above.files.writing import write_bytes

    path = Path(file)
    ending = check_ending(path)
    out, figure = io.BytesIO(), axes.get_figure(root=True)
    assert figure is not None  # noqa: S101 (axes that were drawn on stand in one)
    # the same figure gives the same bytes on any day
    stamp = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}[ending]
    with rc_context({"svg.hashsalt": "ask-above", "pdf.fonttype": 42}), without_complaints():
        figure.savefig(out, format=ending, metadata=stamp, facecolor=figure.get_facecolor())
    write_bytes(path, out.getvalue())


def as_svg(axes: Axes, name: str) -> str:
    """Return a figure as an SVG element for a page: its inks follow the page's ground, its ids begin with ``name``."""
    import io
    import re

    from matplotlib import rc_context

    out, figure = io.StringIO(), axes.get_figure(root=True)
    assert figure is not None  # noqa: S101 (axes that were drawn on stand in one)
    axes.texts[0].remove()  # the page says it
    look: dict[str, Any] = {"metadata": {"Date": None}, "bbox_inches": _drawn(axes)}
    with rc_context({"svg.hashsalt": "ask-above"}), without_complaints():
        figure.savefig(out, format="svg", facecolor=figure.get_facecolor(), **look)
    svg = out.getvalue()
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg[svg.index("<svg") :], flags=re.DOTALL)
    for ink, color in LIGHT.items():
        svg = svg.replace(color, f"var(--figure-{ink})")
    svg = re.sub(r'\bid="', f'id="{name}-', svg)
    svg = re.sub(r'(href="#|url\(#)', rf"\g<1>{name}-", svg)
    return re.sub(
        r'<svg [^>]*?viewBox="([^"]*)"[^>]*>', r'<svg viewBox="\1" aria-hidden="true" focusable="false">', svg
    )


def _drawn(axes: Axes) -> Any:
    """Return the bounds of what is drawn on axes, in inches."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.transforms import Bbox

    figure = axes.get_figure(root=True)
    assert figure is not None  # noqa: S101 (axes that were drawn on stand in one)
    renderer: Any = FigureCanvasAgg(figure).get_renderer()  # type: ignore[no-untyped-call]
    artists = (*axes.texts, *axes.lines, *axes.patches, *axes.collections)
    with without_complaints():
        boxes = [artist.get_tightbbox(renderer) for artist in artists]
    bounds = Bbox.union([box for box in boxes if box is not None and all(map(isfinite, box.extents))])
    return bounds.padded(figure.dpi * 0.03).transformed(figure.dpi_scale_trans.inverted())


def check_ending(path: Path) -> str:
    """Return which of the three kinds of file a name means; raise :class:`~ask_above.errors.QuestionError` for none."""
    ending = path.suffix.lower().removeprefix(".")
    if ending not in ENDINGS:
        raise QuestionError(f"'{path.name}' ends in none of .png, .svg and .pdf.")
    return ending
