"""Putting an inventory's objects into the database, kind by kind, in the surrounding transaction."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from uuid import UUID

from django.db.models import F
from django.utils import timezone

from neatlatch.core import profile_keys, profiles
from neatlatch.core.access import BadRules, formats
from neatlatch.core.authority import ceiling
from neatlatch.core.inventory.merging import Change
from neatlatch.core.inventory.shape import KINDS, Content
from neatlatch.core.scopes import malformed
from neatlatch.core.windows import BadWindow
from neatlatch.core.windows import read as read_window
from neatlatch.desk.estate.applications.following import of_change as following_of
from neatlatch.desk.estate.applications.services import ADDRESS_FIELDS
from neatlatch.desk.estate.clients.services import provider_changed
from neatlatch.desk.estate.connections import accounts, destinations, tokens
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections.destinations import Leave
from neatlatch.desk.estate.records.applications.models import Application, Environment, Place, ProfileVersion
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.users.models import Use, User
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.work import leaving
from neatlatch.desk.work.access.models import RuleBook

from .collecting import client_keys, place_key, user_key
from .plain import Given

# A change of these makes the tokens that are held belong to something else.
_IDENTITY = ("issuer", "token_endpoint", "client_id")


class CannotApply(ValueError):
    """An object cannot be put in; ``kind`` and ``key`` name it, the message says why."""

    def __init__(self, kind: str, key: str, says: str) -> None:
        super().__init__(says)
        self.kind, self.key = kind, key


def moment(text: str) -> datetime | None:
    """A moment out of the file; empty: none."""
    return datetime.fromisoformat(text) if text else None


class Hand:
    """Puts objects in and takes them away. ``by`` is who does it, ``leave`` what to do where something that is held would go to a new place."""

    def __init__(self, by: Actor, leave: Leave | None = None) -> None:
        self.by, self.leave = by, leave
        self.moving: list[destinations.Move] = []
        self.ended: list[tokens.TakenOut] = []
        self.now = timezone.now()
        self.clients: dict[str, Client] = {}

    def apply(self, changes: list[Change], content: Content) -> None:
        """Carry out all changes that do something. Raises :class:`CannotApply`, and :class:`Problem` where leave is wanted; the transaction then must not be
        kept."""
        rows = list(Client.objects.exclude(state="asking").select_related("place__application", "place__environment"))
        names = client_keys(rows)
        self.clients = {names[one.pk]: one for one in rows}
        doing = {(one.kind, one.key): one for one in changes if one.does}
        put: dict[str, Callable[[str, Given], None]] = {
            "environments": self.environment, "people": self.person, "teams": self.team, "applications": self.application, "places": self.place,
            "clients": self.client, "credentials": self.credential, "connections": self.connection, "users": self.user}  # fmt: skip
        # Clients come before the credentials that are theirs; in the file they stand the other way round.
        order = [one.name for one in KINDS if one.name not in ("credentials", "clients")]
        order[order.index("connections") : order.index("connections")] = ["clients", "credentials"]
        for kind in order:
            for (of, key), one in doing.items():
                if of == kind and one.act != "remove":
                    put[kind](key, content[kind][key])
        for kind in reversed(order):
            for (of, key), one in doing.items():
                if of == kind and one.act == "remove":
                    self.remove(kind, key)
        if self.moving:
            raise destinations.asking(self.moving)

    def end_there(self) -> None:
        """After the transaction: ask the providers to end the tokens that nothing uses any more."""
        for one in self.ended:
            about = {"tokens revoked there": one.revoke()}
            write(self.by, "ended the tokens for tests of", "connection", one.connection.ref, about)

    def environment(self, key: str, given: Given) -> None:
        """An environment of the firm."""
        Environment.objects.update_or_create(key=key, defaults=given)

    def person(self, key: str, given: Given) -> None:
        """Somebody who logs in; a new one has no password until an administrator sets one."""
        first, _, last = given["name"].partition(" ")
        found = Person.objects.filter(username=key).first()
        if found is None:
            found = Person(username=key)
            found.set_unusable_password()
        if found.pk and (found.role, found.is_active) != (given["role"], given["active"]):
            try:
                found = leaving.change(self.by, found, given["role"], given["active"])
            except Problem as problem:
                raise CannotApply("people", key, problem.detail) from problem
        found.first_name, found.last_name, found.email = first, last, given["email"]
        found.role, found.is_active = given["role"], given["active"]
        found.save()

    def team(self, key: str, given: Given) -> None:
        """A team."""
        found, _ = Team.objects.get_or_create(name=key)
        found.people.set(Person.objects.filter(username__in=given["people"]))
        Connection.objects.filter(team=found).update(stamp=F("stamp") + 1)

    def application(self, key: str, given: Given) -> None:
        """An application and its profile."""
        if said := profile_keys.wrong_in(given["profile"]):
            raise CannotApply("applications", key, said)
        try:
            read = profiles.from_dict(given["profile"])
        except profiles.BadProfile as error:
            raise CannotApply("applications", key, str(error)) from error
        if said := profiles.unsound(read):
            raise CannotApply("applications", key, said)
        profile = profiles.to_dict(read)
        fields = {name: given[name] for name in ("name", "purpose", "owner", "documentation")}
        found = Application.objects.filter(key=key).first()
        if found is None:
            Application.objects.create(key=key, profile=profile, changed_by=self.by.username, **fields)
            return
        following = []
        for name, value in fields.items():
            setattr(found, name, value)
        if found.profile != profile:
            ProfileVersion.objects.create(application=found, number=found.version, profile=found.profile, by=self.by.username, at=self.now)
            following, found.profile = following_of(found, read), profile
        found.version += 1
        found.changed_by = self.by.username
        found.save()
        for save in following:
            save()

    def place(self, key: str, given: Given) -> None:
        """An application in an environment, with its access rules."""
        application, environment = Application.objects.get(key=given["application"]), Environment.objects.get(key=given["environment"])
        if (stands := Place.objects.filter(application=application, environment=environment).first()) is not None:
            destinations.fix(stands)
        columns = {name: given["addresses"].get(name, "") for name in ADDRESS_FIELDS}
        more = {name: address for name, address in given["addresses"].items() if name not in ADDRESS_FIELDS}
        found, _ = Place.objects.update_or_create(application=application, environment=environment, defaults={
            **columns, "more": more, "metadata_address": given["metadata_address"], "metadata": given["metadata"] or None, "changed_at": self.now})  # fmt: skip
        if not given["access_rules"]:
            RuleBook.objects.filter(place=found).update(
                content={}, version=F("version") + 1, changed_at=self.now, changed_by=self.by.username
            )
            return
        try:
            content = formats.as_plain(formats.from_plain(given["access_rules"]))
        except BadRules as error:
            raise CannotApply("places", key, f"access rules: {error}") from error
        book = RuleBook.objects.filter(place=found).first() or RuleBook(place=found, version=0)
        if book.content != content:
            book.content, book.version, book.changed_at, book.changed_by = content, book.version + 1, self.now, self.by.username
            book.save()

    def credential(self, key: str, given: Given) -> None:
        """What is known of a credential. Its value is not in the file: one that the safe does not hold is awaited."""
        try:
            identity = UUID(key)
        except ValueError as error:
            raise CannotApply("credentials", key, "a credential is named by the ID that it has in the safe") from error
        client = self.clients.get(given["client"]) if given["client"] else None
        found = Credential.objects.filter(pk=identity).first() or Credential(
            pk=identity, value=b"", fingerprint="", kind=given["kind"], client=client
        )
        found.hint, found.secret_id, found.state, found.source, found.put_in_by, found.public_key = (
            given["hint"][:10], given["secret_id"], given["state"], given["source"], given["put_in_by"], given["public_key"])  # fmt: skip
        found.issued, found.ends = moment(given["issued"]) or self.now, moment(given["ends"])
        found.save()
        Connection.objects.filter(held_secrets__credential=found).update(stamp=F("stamp") + 1)

    def client(self, key: str, given: Given) -> None:
        """A client registration, or an account."""
        place = self._place(given["place"])
        found = self.clients.get(key)
        if found is None:
            try:
                identity = UUID(given["id"])
            except ValueError as error:
                raise CannotApply("clients", key, f"“{given['id']}” is no ID") from error
            if Client.objects.filter(pk=identity).exists():
                raise CannotApply("clients", key, "another client has this ID")
            found = Client(
                pk=identity,
                place=place,
                managed=given["managed"],
                management_address=given["management_address"],
                scheme=given["scheme"],
                version=0,
            )
        before = found.fields()
        if bad := sorted(one for one in given["scopes"] if malformed(one)):
            raise CannotApply("clients", key, f"“{bad[0]}” holds characters that a scope must not (RFC 6749 §3.3)")
        for name in ("name", "contacts", "public", "client_id", "redirect_uris", "grants", "scopes", "sign_in_method", "consents", "vendor_shared", "state",
                     "facts", "account", "account_kind", "rights", "switches", "allow_list", "ticks"):  # fmt: skip
            setattr(found, name, given[name])
        if found.management_digest:
            found.ceiling = ceiling.read(found.ceiling).after_edit(before, found.fields()).as_plain()
        found.rights_changed_at, found.scopes_changed_at = moment(given["rights_changed_at"]), moment(given["scopes_changed_at"])
        found.version += 1
        found.changed_at, found.changed_by = self.now, self.by.username
        found.save()
        self.clients[key] = found
        provider_changed(found)

    def _place(self, key: str) -> Place:
        application, _, environment = key.partition("/")
        return Place.objects.select_related("application", "environment").get(application__key=application, environment__key=environment)

    def connection(self, key: str, given: Given) -> None:
        """The caller side, its secrets by reference, whose account it is."""
        place = self._place(given["place"])
        if place.application.read_profile().scheme(given["scheme"]) is None:
            raise CannotApply("connections", key, f"{place.application.name} has no way in that is called {given['scheme']}")
        if not connections.REF.fullmatch(key):
            raise CannotApply("connections", key, "a reference name is small letters, digits and hyphens")
        client = self.clients.get(given["client"]) if given["client"] else None
        if client is not None and client.place.application_id != place.application_id:
            raise CannotApply("connections", key, "its client belongs to another application")
        found = Connection.objects.filter(ref=key).first() or Connection(ref=key, place=place, version=0)
        moved = bool(found.version) and (found.scheme != given["scheme"] or found.client_id != (client.pk if client else None)
                                         or any(found.values.get(name) != given["values"].get(name) for name in _IDENTITY))  # fmt: skip
        scheme = place.application.read_profile().scheme(given["scheme"])
        assert scheme is not None
        empty = {one.key: "" for one in scheme.all_values() if not one.secret and one.type != "scopes"}
        values = empty | {name: str(value) for name, value in given["values"].items()}
        found.client, found.scheme, found.values, found.slots, found.scopes = (
            client,
            given["scheme"],
            values,
            given["slots"],
            given["scopes"],
        )
        if found.version and found.individual != given["individual"]:
            moved = True
        other_tests = found.tests_as != given["tests_as"]
        found.tests_as, found.work_in_rounds = given["tests_as"], given["work_in_rounds"]
        found.individual, found.team = given["individual"], Team.objects.filter(name=given["team"]).first() if given["team"] else None
        found.pace, found.time_limit, found.paused = given["pace"], given["time_limit"], given["left_out_of_rounds"]
        found.scopes_changed_at = moment(given["scopes_changed_at"])
        found.version += 1
        found.changed_at, found.changed_by = self.now, self.by.username
        found.forget_health()
        found.save()
        if moved:
            tokens.drop(found)
        elif found.individual and other_tests:
            self.ended += tokens.take_out(found)
        self._secrets(found, given["secrets"])
        Account.objects.filter(connection=found).exclude(person__username__in=given["accounts"]).delete()
        for username, expected in given["accounts"].items():
            Account.objects.update_or_create(
                connection=found, person=Person.objects.get(username=username), defaults={"expected": expected}
            )
        if said := accounts.refused_for_tests(found, found.tests_as):
            raise CannotApply("connections", key, f"tests as {found.tests_as}: {said}")
        if self.leave is not None:
            destinations.settle(self.by, found, self.leave)
        else:
            self.moving += destinations.unsettled(found)

    def _secrets(self, connection: Connection, wanted: dict[str, str]) -> None:
        HeldSecret.objects.filter(connection=connection).exclude(key__in=wanted).delete()
        for name, reference in wanted.items():
            credential = Credential.objects.get(pk=reference.removeprefix("safe:"))
            self._check_belongs(connection, name, credential)
            HeldSecret.objects.update_or_create(connection=connection, key=name, defaults={"credential": credential})

    def _check_belongs(self, connection: Connection, name: str, credential: Credential) -> None:
        """A secret that a connection does not hold yet is taken up only within one application and environment."""
        if HeldSecret.objects.filter(connection=connection, key=name, credential=credential).exists():
            return
        stands = set(credential.holders.values_list("connection__place_id", flat=True)) | (
            {credential.client.place_id} if credential.client else set()
        )
        if stands and connection.place_id not in stands:
            raise CannotApply("connections", connection.ref, f"its {name} belongs to another application or environment")

    def user(self, key: str, given: Given) -> None:
        """A job, report, script or agent, and what it calls."""
        for line in given["windows"]:
            try:
                read_window(line)
            except BadWindow as error:
                raise CannotApply("users", key, str(error)) from error
        environment = Environment.objects.get(key=given["environment"])
        if key != f"{given['name']}/{given['environment']}":
            raise CannotApply("users", key, f"a user is named by its name and environment: {given['name']}/{given['environment']}")
        found = User.objects.filter(name=given["name"], environment=environment).first() or User(
            name=given["name"], environment=environment, version=0
        )
        for name in ("kind", "owner", "runs", "windows", "notice_days", "draws"):
            setattr(found, name, given[name])
        found.version += 1
        found.changed_at, found.changed_by = self.now, self.by.username
        found.save()
        touched = {one.connection_id for one in found.uses.all()}
        found.uses.all().delete()
        for use in given["uses"]:
            connection = Connection.objects.select_related("place").get(ref=use["connection"]) if use.get("connection") else None
            application = Application.objects.get(key=use["application"])
            if connection is not None and connection.place.application_id != application.pk:
                raise CannotApply("users", key, f"{connection.ref} is no connection into {application.name}")
            made = Use.objects.create(user=found, application=application, connection=connection, operations=use.get("operations", []),
                                      seen=use.get("seen", {}), seen_at=moment(use.get("seen_at", "")))  # fmt: skip
            touched.add(made.connection_id)
        Connection.objects.filter(pk__in=[one for one in touched if one]).update(stamp=F("stamp") + 1)

    def remove(self, kind: str, key: str) -> None:
        """Take an object away that the file no longer has."""
        if kind == "clients":
            client = self.clients.pop(key)
            if client.managed and client.management_token is not None:
                raise CannotApply(
                    kind, key, "the client is registered there by protocol; remove it on its page, so that it is removed there too"
                )
            client.delete()
        elif kind == "connections":
            found = Connection.objects.get(ref=key)
            found.samples.all().delete()
            found.delete()
        elif kind == "users":
            next(one for one in User.objects.select_related("environment") if user_key(one) == key).delete()
        elif kind == "places":
            next(one for one in Place.objects.select_related("application", "environment") if place_key(one) == key).delete()
        elif kind == "people":
            person = Person.objects.get(username=key)
            try:
                leaving.end_access(self.by, person)
            except Problem as problem:
                raise CannotApply(kind, key, problem.detail) from problem
        elif kind == "credentials":
            Credential.objects.filter(pk=key).delete()
        elif kind == "teams":
            Team.objects.filter(name=key).delete()
        elif kind == "applications":
            Application.objects.filter(key=key).delete()
        else:
            Environment.objects.filter(key=key).delete()
