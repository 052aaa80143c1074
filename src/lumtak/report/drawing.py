"""A figure of the plotting library as a drawing of the PDF library, path by path.

The report takes its chart this way: nothing is written as SVG and read again, and text stays text
in the report's own fonts.
"""

from typing import Any

from matplotlib.backend_bases import FigureCanvasBase, RendererBase
from matplotlib.figure import Figure
from matplotlib.path import Path
from reportlab.graphics import shapes
from reportlab.lib.colors import Color

_POINTS_PER_INCH = 72.0
_CAPS = {"butt": 0, "round": 1, "projecting": 2}
_JOINS = {"miter": 0, "round": 1, "bevel": 2}


def drawing_of(figure: Figure, width: float) -> shapes.Drawing:
    """The figure as a drawing of that width, in points."""
    # A pixel of the figure is then a point of the page.
    figure.set_dpi(_POINTS_PER_INCH)
    renderer = _Renderer(figure.bbox.width, figure.bbox.height)
    _Canvas(figure, renderer)
    figure.draw(renderer)
    drawing, scale = renderer.drawing, width / figure.bbox.width
    drawing.width, drawing.height = drawing.width * scale, drawing.height * scale
    drawing.scale(scale, scale)
    return drawing


class _Canvas(FigureCanvasBase):
    """Tells whoever lays the figure out how large its words are."""

    def __init__(self, figure: Figure, renderer: RendererBase) -> None:
        super().__init__(figure)
        self._renderer = renderer

    def get_renderer(self) -> RendererBase:
        """What it is drawn with."""
        return self._renderer


class _Renderer(RendererBase):
    """Takes paths and words; bars, lines and marks all come as paths (matplotlib's fallbacks)."""

    def __init__(self, width: float, height: float) -> None:
        super().__init__()
        self._size = width, height
        self.drawing = shapes.Drawing(width, height)

    def flipy(self) -> bool:
        """The origin is at the lower left, as in PDF."""
        return False

    def get_canvas_width_height(self) -> tuple[float, float]:
        """In points."""
        return self._size

    def draw_path(
        self,
        gc: Any,  # noqa: ANN401
        path: Path,
        transform: Any,  # noqa: ANN401
        rgbFace: Any = None,  # noqa: ANN401, N803 - the library's name
    ) -> None:
        """One path, filled and stroked."""
        red, green, blue, alpha = gc.get_rgb()
        _, dashes = gc.get_dashes()
        width = gc.get_linewidth()
        drawn = shapes.Path(
            strokeColor=Color(red, green, blue, alpha) if width else None,
            strokeWidth=width,
            strokeDashArray=None if dashes is None else [float(d) for d in dashes],
            strokeLineCap=_CAPS[gc.get_capstyle()],
            strokeLineJoin=_JOINS[gc.get_joinstyle()],
            fillColor=None if rgbFace is None else Color(*_rgba(rgbFace, alpha)),
        )
        at = (0.0, 0.0)
        for values, code in path.iter_segments(transform):
            points = [float(v) for v in values]
            _add(drawn, int(code), at, points)
            at = (points[-2], points[-1])
        self.drawing.add(drawn)

    def draw_text(
        self,
        gc: Any,  # noqa: ANN401
        x: float,
        y: float,
        s: str,
        prop: Any,  # noqa: ANN401
        angle: float,
        *_: Any,  # noqa: ANN401
        **__: Any,  # noqa: ANN401
    ) -> None:
        """A line of text, turned about its beginning."""
        red, green, blue, alpha = gc.get_rgb()
        words = shapes.String(
            0,
            0,
            s,
            fontName="Lumtak-Bold" if prop.get_weight() == "bold" else "Lumtak",
            fontSize=prop.get_size_in_points(),
            fillColor=Color(red, green, blue, alpha),
        )
        placed = shapes.Group(words)
        placed.translate(float(x), float(y))
        placed.rotate(angle)
        self.drawing.add(placed)

    def draw_image(self, *_: Any) -> None:  # noqa: ANN401
        """Charts hold no pictures.

        Raises:
            NotImplementedError: one does.
        """
        raise NotImplementedError("a chart of the report holds a picture")


def _rgba(face: Any, alpha: float) -> tuple[float, float, float, float]:  # noqa: ANN401
    red, green, blue = (float(part) for part in face[:3])
    return red, green, blue, float(face[3]) if len(face) > 3 else alpha


def _add(drawn: shapes.Path, code: int, at: tuple[float, float], points: list[float]) -> None:
    """A segment of a path; PDF knows cubic curves only (ISO 32000-1, 8.5.2.2)."""
    match code:
        case Path.MOVETO:
            drawn.moveTo(*points)
        case Path.LINETO:
            drawn.lineTo(*points)
        case Path.CURVE3:
            (x0, y0), (x1, y1, x2, y2) = at, points
            first = (x0 + 2 * (x1 - x0) / 3, y0 + 2 * (y1 - y0) / 3)
            second = (x2 + 2 * (x1 - x2) / 3, y2 + 2 * (y1 - y2) / 3)
            drawn.curveTo(*first, *second, x2, y2)
        case Path.CURVE4:
            drawn.curveTo(*points)
        case Path.CLOSEPOLY:
            drawn.closePath()
