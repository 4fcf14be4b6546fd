"""What inventory files were made from."""

from __future__ import annotations

import json
import zlib

from django.db import models

from neatlatch.core.inventory.shape import Content


class Origin(models.Model):
    """A content that was exported, by its digest, and how files made from it stand since: ``content`` is what the last of them that was applied said."""

    digest = models.CharField(max_length=64, primary_key=True)
    # JSON, compressed: a content of thousands of connections is long, and says the same again and again.
    packed = models.BinaryField()
    at = models.DateTimeField()
    by = models.CharField(max_length=150)

    class Meta:
        ordering = ["-at"]

    @property
    def content(self) -> Content:
        """The content."""
        found: Content = json.loads(zlib.decompress(self.packed))
        return found


def packed(content: Content) -> bytes:
    """A content as it is kept."""
    return zlib.compress(json.dumps(content, ensure_ascii=False, separators=(",", ":")).encode(), 6)
