"""Who may do what, versions of edited things, and creation that can be repeated."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable
from dataclasses import asdict, is_dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from neatlatch.core.program_tokens import ProgramRight
from neatlatch.desk.ground.common import narrowed
from neatlatch.desk.ground.common.actors import Actor, ProgramCaller
from neatlatch.desk.ground.common.models import Repeatable
from neatlatch.desk.ground.common.problems import Problem, changed_meanwhile
from neatlatch.desk.ground.journal.services import changes_since
from neatlatch.desk.ground.people.actors import DelegatedCaller, lacks_right, only_a_person
from neatlatch.desk.ground.people.models import Person, Role

_MAY = {
    "look": {Role.READER, Role.OPERATOR, Role.ADMINISTRATOR, Role.AUDITOR},
    "test": {Role.OPERATOR, Role.ADMINISTRATOR},
    "change": {Role.ADMINISTRATOR},
    "put_secrets": {Role.ADMINISTRATOR},
    "people": {Role.ADMINISTRATOR},
    "read_journal": {Role.AUDITOR, Role.ADMINISTRATOR},
}
# What a program's token must hold for the same.
_RIGHTS = {
    "look": ProgramRight.READ,
    "test": ProgramRight.TEST,
    "change": ProgramRight.CHANGE,
    "put_secrets": ProgramRight.PUT_SECRETS,
    "people": ProgramRight.PEOPLE,
    "read_journal": ProgramRight.READ,
}
# What changes nothing, and reaches everything that a role shows.
_LOOKS = ("look", "read_journal")
_WORDS = {
    "test": "test and sign in",
    "change": "register, change and hand over",
    "put_secrets": "put secrets in",
    "people": "add and change people",
    "read_journal": "read the journal",
    "look": "look",
}


def may(by: Actor, what: str) -> bool:
    """Whether a person's role (DOMAIN §17) or a program's token allows something."""
    if isinstance(by, ProgramCaller):
        return by.grant.holds(_RIGHTS[what])
    return isinstance(by, Person) and by.is_active and by.role in _MAY[what]


def need(request: HttpRequest, what: str) -> Actor:
    """Return who asks: a person whose role allows it, or a program whose token does; for somebody's
    command line both must. Raises :class:`Problem` (403), which says who may.
    """
    caller = getattr(request, "auth", None)
    if isinstance(caller, ProgramCaller | DelegatedCaller):
        if not caller.grant.holds(_RIGHTS[what]):
            raise lacks_right(_RIGHTS[what])
        return caller if isinstance(caller, ProgramCaller) else _in_role(caller.person, what)
    return need_person(request, what)


def asker_of(request: HttpRequest) -> Actor:
    """Return who asks, whatever they may."""
    caller = getattr(request, "auth", None)
    if isinstance(caller, ProgramCaller):
        return caller
    return caller.person if isinstance(caller, DelegatedCaller) else person_of(request)


def person_of(request: HttpRequest) -> Person:
    """Return the person who is logged in. Raises :class:`Problem` (403) where a token is shown in
    place of a session.
    """
    if isinstance(getattr(request, "auth", None), ProgramCaller | DelegatedCaller):
        raise only_a_person()
    person = request.user
    assert isinstance(person, Person)
    return person


def need_person(request: HttpRequest, what: str) -> Person:
    """Return the person who asks, if their role and their limits allow it, for what no program can
    do. Raises :class:`Problem` (403), which says who may.
    """
    return _in_role(person_of(request), what)


def _in_role(person: Person, what: str) -> Person:
    if not may(person, what):
        who = " or ".join(sorted(role.label.lower() for role in _MAY[what]))
        raise Problem(
            403,
            "Your role does not allow this.",
            f"You are {person.get_role_display().lower()}. To {_WORDS[what]}, ask {who}.",
            code="role-forbids",
        )
    if what not in _LOOKS:
        narrowed.begin_act()
    return person


# RFC 9110 §8.8.3; ours hold no comma.
_TAG = re.compile(r'(W/)?"[\x21\x23-\x2b\x2d-\x7e]*"')


def etag(version: int) -> str:
    """The entity tag of a version (RFC 9110 §8.8.3)."""
    return f'"{version}"'


def check_version(
    request: HttpRequest, version: int, changed_by: str, what: tuple[str, Any]
) -> None:
    """Refuse an edit that was made on an older version than the one that stands now (RFC 9110
    §13.1.1, RFC 6585 §3), and tell what changed meanwhile.

    ``what`` is the noun and the ID under which the journal knows the thing.
    """
    given = request.headers.get("If-Match")
    if given is None:
        raise Problem(
            428,
            "This edit does not say which version it was made on.",
            "Send If-Match with the ETag you were given.",
            code="version-required",
        )
    tags = [part.strip() for part in given.split(",")]
    if any(tag != "*" and not _TAG.fullmatch(tag) for tag in tags):
        raise Problem(
            400,
            "If-Match holds no ETag.",
            f"Send it as it was given, quotation marks included, like {etag(version)}.",
            code="bad-if-match",
        )
    if not {"*", etag(version)} & set(tags):
        seen = tags[0].strip('"')
        meanwhile = changes_since(
            *what, int(seen) if seen.isdigit() and len(seen) < 10 else version - 1
        )
        told = " ".join(
            f"{edit['by']}: {'; '.join(edit['changes']).rstrip('.')}."
            for edit in meanwhile
            if edit["changes"]
        )
        told = told or f"{changed_by or 'Somebody'} saved a newer version."
        raise changed_meanwhile(version, told, meanwhile)


def repeatable(
    request: HttpRequest, body: Any, create: Callable[[], tuple[int, Any]], alone: bool = False
) -> tuple[int, Any]:
    """Create something once, however often the same request with the same ``Idempotency-Key``
    comes.

    The answer is kept with the key, so it must hold no secret. Another content under the same key
    is refused. ``alone``: nobody outside is called, so thing and answer are written together, and a
    program that is killed leaves both or neither.
    """
    key = request.headers.get("Idempotency-Key", "")
    if not key:
        return create()
    if alone:
        with transaction.atomic():
            return _claimed(request, body, key, create, alone)
    return _claimed(request, body, key, create, alone)


def _claimed(
    request: HttpRequest, body: Any, key: str, create: Callable[[], tuple[int, Any]], alone: bool
) -> tuple[int, Any]:
    digest = hashlib.sha256(
        json.dumps([request.path, body], sort_keys=True, default=str).encode()
    ).hexdigest()
    who = asker_of(request).username
    # Claimed first and answered later, because creating may mean calling a provider, and no lock is
    # held while that lasts.
    Repeatable.objects.filter(
        who=who, key=key[:100], status=0, at__lt=timezone.now() - timedelta(minutes=5)
    ).delete()
    claim, new = Repeatable.objects.get_or_create(
        who=who, key=key[:100], defaults={"digest": digest, "status": 0, "answer": {}}
    )
    if not new:
        if claim.digest != digest:
            raise Problem(
                422,
                "This Idempotency-Key was used for something else.",
                "Use a new key for a new thing.",
                code="idempotency-key-reused",
            )
        if claim.status == 0:
            raise Problem(
                409,
                "This is being done already.",
                "Wait a moment, then look whether it is there.",
                code="already-in-progress",
            )
        return claim.status, claim.answer
    try:
        status, answer = create()
    except Exception:
        if not alone:  # else it goes with everything else
            claim.delete()
        raise
    claim.status, claim.answer = status, json.loads(json.dumps(answer, default=_plain))
    claim.save(update_fields=["status", "answer"])
    return status, answer


def _plain(value: Any) -> Any:
    """What JSON has no value for, as one that it has."""
    return asdict(value) if is_dataclass(value) and not isinstance(value, type) else str(value)


def forget_old(now: datetime) -> int:
    """Delete kept responses that are a week old. Return how many."""
    return Repeatable.objects.filter(at__lt=now - timedelta(days=7)).delete()[0]


def tagged(response: HttpResponse, version: int) -> None:
    """Put the ETag on an answer."""
    response["ETag"] = etag(version)
