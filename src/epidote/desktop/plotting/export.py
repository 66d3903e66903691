"""A graph as a picture that carries its own conditions: subjects, settings, pins' values and cautions stand in it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QImage, QPainter, QPen

from epidote.audio.files.sound_file import write_whole
from epidote.core.results.channels import channel_name
from epidote.desktop.plotting.figure import Figure
from epidote.desktop.plotting.figure_painter import FigurePainter, dashes_of
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.images import png_of

SIZE = QSize(1280, 800)
MOST_LINES = 11  # of words beneath the graph


def pin_lines(figure: Figure) -> list[str]:
    """Each pin with the value of every curve at it."""
    lines = []
    for pin in figure.pins:
        values = "; ".join(
            f"{t.name}, {channel_name(t.channel)}: {figure.y_text(t.at(pin.x, figure.log_x))}" for t in figure.traces
        )
        lines.append(f"Pin {pin.number}, {figure.x_text(pin.x)}: {values}")
    return lines


def paint_picture(painter: QPainter, figure: Figure, view: Viewport, theme: Theme, size: QSize) -> None:
    """Title, legend, the graph, and beneath it pins, settings and cautions in words."""
    area = QRectF(0, 0, size.width(), size.height())
    painter.fillRect(area, theme.colour("back"))
    small = font(0.85)
    height = QFontMetricsF(small).height() + 3
    painter.setPen(theme.colour("text"))
    painter.setFont(font(1.2, bold=True))
    painter.drawText(area.adjusted(20, 14, -20, 0), Qt.AlignmentFlag.AlignLeft, figure.title)
    painter.setFont(small)
    top = 20 + QFontMetricsF(font(1.2)).height()
    x, y = 20.0, top
    channels = sorted(
        {(t.name, t.channel, t.colour, t.baseline) for t in figure.traces}, key=lambda e: (e[3], e[2], e[0], e[1])
    )
    for name, channel, colour, baseline in channels:
        text = f"{name}, {channel_name(channel)}"
        width = QFontMetricsF(small).horizontalAdvance(text) + 56
        if x + width > area.width() - 20:
            x, y = 20.0, y + height
        pen = QPen(theme.colour("quiet") if baseline else theme.row(colour), 2)
        if baseline:
            pattern = [1.5, 2.5]
        else:
            pattern = dashes_of(channel)
        if pattern:
            pen.setDashPattern(pattern)
        painter.setPen(pen)
        painter.drawLine(QPointF(x, y + height / 2), QPointF(x + 26, y + height / 2))
        painter.setPen(theme.colour("text"))
        painter.drawText(QPointF(x + 32, y + height * 0.75), text)
        x += width
    lines = pin_lines(figure) + list(figure.notes)
    metrics = QFontMetricsF(small)
    wrapped = [part for line in lines for part in _wrapped(line, metrics, area.width() - 40)]
    if len(wrapped) > MOST_LINES:
        left_out = len(wrapped) - MOST_LINES + 1
        wrapped = [*wrapped[: MOST_LINES - 1], f"… {left_out} more lines: see the description inside the file."]
    bottom = area.bottom() - 14 - height * len(wrapped)
    FigurePainter(figure, view, theme).paint(
        painter, QRectF(12, y + height + 4, area.width() - 24, bottom - y - height - 14)
    )
    painter.setFont(small)
    for i, line in enumerate(wrapped):
        painter.setPen(theme.colour("caution" if line.startswith("!") else "quiet"))
        painter.drawText(QPointF(20, bottom + height * (i + 0.8)), line)


def _wrapped(text: str, metrics: QFontMetricsF, width: float) -> list[str]:
    lines, current = [], ""
    for word in text.split(" "):
        longer = f"{current} {word}".strip()
        if current and metrics.horizontalAdvance(longer) > width:
            lines.append(current)
            current = word
        else:
            current = longer
    return [*lines, current]


def picture_of(figure: Figure, view: Viewport, theme: Theme, size: QSize = SIZE) -> QImage:
    """Return the picture at twice the size, for print, with its words as text inside it too."""
    image = QImage(size * 2, QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(2)
    for key, text in (("Title", figure.title), ("Description", "\n".join([*pin_lines(figure), *figure.notes]))):
        image.setText(key, text)
    painter = QPainter(image)
    paint_picture(painter, figure, view, theme, size)
    painter.end()
    return image


def _pdf(figure: Figure, view: Viewport, theme: Theme, size: QSize) -> bytes:
    """One page of the picture's own shape, as vectors."""
    from PySide6.QtCore import QMarginsF, QSizeF
    from PySide6.QtGui import QPageSize, QPdfWriter

    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setTitle(figure.title)
    writer.setPageSize(QPageSize(QSizeF(size.width(), size.height()) * 0.6, QPageSize.Unit.Point))
    writer.setPageMargins(QMarginsF(0, 0, 0, 0))
    writer.setResolution(120)
    painter = QPainter(writer)
    painter.scale(writer.width() / size.width(), writer.height() / size.height())
    paint_picture(painter, figure, view, theme, size)
    painter.end()
    return bytes(content.data())


def export_picture(path: Path, figure: Figure, view: Viewport, theme: Theme, size: QSize = SIZE) -> None:
    """Write PNG (twice the size, for print), SVG or PDF by the file's ending. Raises DiskError."""
    if path.suffix.lower() == ".pdf":
        write_whole(path, _pdf(figure, view, theme, size))
        return
    if path.suffix.lower() == ".svg":
        from PySide6.QtSvg import QSvgGenerator

        content = QByteArray()
        buffer = QBuffer(content)
        generator = QSvgGenerator()
        generator.setOutputDevice(buffer)
        generator.setSize(size)
        generator.setViewBox(QRectF(0, 0, size.width(), size.height()))
        generator.setTitle(figure.title)
        generator.setDescription("\n".join([*pin_lines(figure), *figure.notes]))
        painter = QPainter(generator)
        paint_picture(painter, figure, view, theme, size)
        painter.end()
        write_whole(path, bytes(content.data()))
        return
    write_whole(path, png_of(picture_of(figure, view, theme, size)))
