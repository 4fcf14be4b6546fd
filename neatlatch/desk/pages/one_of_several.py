"""The ASGI application in one of several processes that serve the desk behind one socket."""

from neatlatch.desk.ground import serving

serving.end_with_parent()

from .asgi import application  # noqa: E402

__all__ = ["application"]
