"""The API against its own description, with whatever schemathesis thinks of; a real server, a
person who may everything.

The whole form (``bin/prove api``) tries every field at each of its bounds as well, and more
examples of each operation.
"""

from __future__ import annotations

import fcntl
import json
import re
from collections.abc import Iterator

import pytest
import schemathesis
from hypothesis import HealthCheck, settings
from schemathesis.checks import not_a_server_error
from schemathesis.config import SchemathesisConfig
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from neatlatch.desk.pages.api import api
from tests.harness import ROOT, WHOLE, Desk, StandIns

# Left out: logging out (the next call would be nobody's), and people (it would switch itself off).
_LEFT_OUT = r"^/api/session|^/api/people/"
_CONFIG = SchemathesisConfig.from_dict({"phases": {"coverage": {"enabled": WHOLE}}})
schema = schemathesis.openapi.from_dict(
    json.loads(json.dumps(api.get_openapi_schema(), default=str)), config=_CONFIG
).exclude(path_regex=_LEFT_OUT)


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[Desk]:
    from tests.settings import HOME_OF_TESTS

    found = Desk(
        HOME_OF_TESTS / "schema",
        stand_ins,
        HOME_OF_TESTS / "standins" / "certificates" / "root.pem",
    )
    found.migrate()
    code = (
        f"import json\nfrom neatlatch.demo.load import "
        f"load\nprint(json.dumps(load({stand_ins.port}, only=('cargo-manifests',))))"
    )
    password = json.loads(found.python(code).splitlines()[-1])["morag"][1]
    found.start("desk")
    lock = (found.home / "worker.lock").open("ab")
    fcntl.flock(
        lock, fcntl.LOCK_SH
    )  # as a worker would hold it: tests are begun, and nobody runs them
    found.web = found.client("morag", password)  # type: ignore[attr-defined]
    yield found
    found.kill()
    lock.close()


@schema.parametrize()
@settings(max_examples=45 if WHOLE else 5, deadline=None, suppress_health_check=list(HealthCheck))
def test_any_call_is_answered_as_described(case: schemathesis.Case, desk: Desk) -> None:
    web = desk.web  # type: ignore[attr-defined]
    headers = {"X-CSRFToken": web.headers["X-CSRFToken"], "If-Match": "*"}
    checks = [
        not_a_server_error,
        status_code_conformance,
        content_type_conformance,
        response_schema_conformance,
    ]
    case.call_and_validate(
        base_url=desk.url, headers=headers, cookies=dict(web.cookies), checks=checks
    )


def test_no_two_schemas_share_a_name() -> None:
    """In the API's description the later of two would silently take the place of the earlier."""
    shape = re.compile(
        r"^@dataclass\(frozen=True, kw_only=True\)\nclass (\w+)"
        r"|^class (\w+)\((?:Schema|RequestBody)\):",
        re.MULTILINE,
    )
    seen: dict[str, str] = {}
    for file in sorted((ROOT / "neatlatch" / "desk").rglob("*.py")):
        for found in shape.finditer(file.read_text()):
            name = found[1] or found[2]
            assert name not in seen, f"{name} stands in {seen[name]} and in {file}"
            seen[name] = str(file)
    assert len(seen) > 300
