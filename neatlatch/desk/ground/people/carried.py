"""Carrying the texts that named owners over to owners: for migrations, with models as
they stood.
"""

from __future__ import annotations

from typing import Any

LONGEST = 120


def owner_of_text(apps: Any, text: str) -> Any:
    """The owner that a text names: the team or the one person that is called exactly so, else a
    contact, made where it is none yet; ``None``: it is empty."""
    owners, name = apps.get_model("people", "Owner").objects, text.strip()[:LONGEST]
    if not name:
        return None
    team = apps.get_model("people", "Team").objects.filter(name__iexact=name).first()
    if team is not None:
        return owners.get_or_create(team=team, defaults={"kind": "team", "name": team.name})[0]
    first, _, last = name.partition(" ")
    people = apps.get_model("people", "Person").objects
    same = list(people.filter(username__iexact=name)[:1])
    same = same or list(people.filter(first_name__iexact=first, last_name__iexact=last)[:2])
    if len(same) == 1:
        one = same[0]
        shown = f"{one.first_name} {one.last_name}".strip() or one.username
        return owners.get_or_create(person=one, defaults={"kind": "person", "name": shown})[0]
    found = owners.filter(kind="contact", name__iexact=name).first()
    address = name if "@" in name and " " not in name else ""
    return found or owners.create(kind="contact", name=name, address=address)


def text_of_owner(owner: Any) -> str:
    """The text that named an owner, for the way back."""
    return owner.name[:LONGEST] if owner is not None else ""
