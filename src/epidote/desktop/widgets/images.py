"""Pictures into PNG and out of files."""

from __future__ import annotations

from PySide6.QtCore import QBuffer, QByteArray, QSize, Qt
from PySide6.QtGui import QImage, QImageReader, QImageWriter

_PIXELS = (b"png", b"jpeg", b"webp", b"gif", b"bmp")


def png_of(image: QImage) -> bytes:
    """Return the picture as the bytes of a PNG file, its texts inside it."""
    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    QImageWriter(buffer, QByteArray(b"PNG")).write(image)
    return bytes(content.data())


def read_picture(content: bytes, room: QSize) -> QImage:
    """Return a picture no larger than ``room`` from a file's bytes; may be called on any thread.

    Null where there is none.

    Only formats that hold nothing but pixels are read: a drawing (SVG) may refer to other files, which a foreign study
    must not.
    """
    holder = QByteArray(content)
    buffer = QBuffer(holder)
    buffer.open(QBuffer.OpenModeFlag.ReadOnly)
    reader = QImageReader(buffer)
    reader.setDecideFormatFromContent(True)
    if bytes(reader.format().data()) not in _PIXELS:
        return QImage()
    reader.setAutoTransform(True)
    size = reader.size()
    if size.isValid() and (size.width() > room.width() or size.height() > room.height()):
        reader.setScaledSize(size.scaled(room, Qt.AspectRatioMode.KeepAspectRatio))
    return reader.read()
