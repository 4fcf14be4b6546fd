"""``/schemas/…``: JSON Schemas of the files that people write, for their editors. They tell
nothing of this desk, so anybody may read them.
"""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import csrf_exempt

from neatlatch.core.json_schemas import BY_FILE
from neatlatch.desk.ground.common import problems


@csrf_exempt  # it changes nothing
def schema(request: HttpRequest, name: str) -> HttpResponse:
    """The schema of an inventory file, or of a profile."""
    make = BY_FILE.get(name)
    if make is None or request.method not in ("GET", "HEAD"):
        return problems.answer(problems.not_found("schema"))
    answer = JsonResponse(
        {"$id": request.build_absolute_uri(), **make()}, content_type="application/schema+json"
    )
    answer["Cache-Control"] = "public, max-age=3600"
    return answer
