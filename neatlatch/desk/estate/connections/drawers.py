"""Who may draw a secret itself.

Of most ways in a draw hands out a token or a signature; of the others the very secret, which then
is out of our hands: so somebody lets each workload have it, by a fresh code of their second factor
and with a reason, which the journal keeps as *revealed to*.
"""

from __future__ import annotations

from collections.abc import Iterable

from neatlatch.core.drawn import hands_out
from neatlatch.core.schemes import KINDS
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

from .destinations import DestinationPermission


def not_let(workload: Workload, connection: Connection) -> list[Credential]:
    """The secrets that a draw of this workload's would hand out themselves, and that nobody let it
    have.
    """
    if hands_out(connection.scheme) != "secret":
        return []
    sent = {
        secret.key for secret in KINDS[connection.scheme].secrets()
    }  # those of further endpoints are not drawn
    return [
        one
        for key, one in connection.secrets().items()
        if key in sent and str(workload.pk) not in one.drawn_by
    ]


def let(
    by: Actor,
    workload: Workload,
    connections: Iterable[Connection],
    leave: DestinationPermission | None,
) -> None:
    """Let a workload draw the secrets themselves, where a draw of these connections hands them out.

    Part of the surrounding transaction. Raises :class:`Problem`, and nothing is saved, where leave
    is required and not given.
    """
    found = [
        (connection, secret)
        for connection in connections
        for secret in not_let(workload, connection)
    ]
    if not found:
        return
    if leave is None or not leave.reason:
        moves = [
            {
                "ref": one.ref,
                "what": "The secret itself",
                "hint": secret.hint,
                "goes_to": "its application",
                "would_go_to": f"{workload.name}, who draws it",
            }
            for one, secret in found[:50]
        ]
        refs = ", ".join(sorted({one.ref for one, _ in found}))
        raise Problem(
            409,
            "This would hand a stored secret out.",
            (
                f"A draw of {refs} hands out the secret itself. Nothing was saved. Give a code "
                f"of your second factor and say why, or let {workload.name} use the relay only."
            ),
            moves=moves,
            keeps=True,
            code="would-hand-out-secret",
        )
    for _, secret in found:
        secret.drawn_by = sorted({*secret.drawn_by, str(workload.pk)})
        secret.save(update_fields=["drawn_by"])
    write(
        by,
        "revealed to",
        "workload",
        workload.name,
        {
            "connections": sorted({one.ref for one, _ in found}),
            "what": [secret.hint for _, secret in found][:50],
            "reason": leave.reason,
            "id": workload.pk,
        },
    )
