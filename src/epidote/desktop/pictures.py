"""Pictures into PNG and out of files."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QSize, Qt
from PySide6.QtGui import QImage, QImageReader, QImageWriter


def png_of(image: QImage) -> bytes:
    """The picture as the bytes of a PNG file, its texts inside it."""
    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    QImageWriter(buffer, QByteArray(b"PNG")).write(image)
    return bytes(content.data())


def read_picture(path: Path, room: QSize) -> QImage:
    """A picture no larger than ``room``; may be called on any thread. Null where there is none."""
    reader = QImageReader(str(path))
    reader.setAutoTransform(True)
    size = reader.size()
    if size.isValid() and (size.width() > room.width() or size.height() > room.height()):
        reader.setScaledSize(size.scaled(room, Qt.AspectRatioMode.KeepAspectRatio))
    return reader.read()
