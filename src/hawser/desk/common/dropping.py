"""Files that are dragged onto a window."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QDropEvent


def dropped_files(event: QDropEvent) -> list[Path]:
    """Those of this machine."""
    data = event.mimeData()
    urls = data.urls() if data is not None and data.hasUrls() else []
    return [Path(url.toLocalFile()) for url in urls if url.isLocalFile()]
