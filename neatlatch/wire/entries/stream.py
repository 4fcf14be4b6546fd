"""A stream over TLS with a simple framed protocol: each frame is a length of four octets, network
order, and so many octets of a JSON object.

``{"do": "sign_in", "key": …, "secret": …}`` and ``{"do": "list"}`` are answered by ``{"ok": true,
…}`` or ``{"ok": false, "error": …}``.
"""

from __future__ import annotations

import json
import struct
import time
from typing import Any

from neatlatch.core import oauth2
from neatlatch.core.addresses import take_apart
from neatlatch.core.evidence import MASK, CauseClass, Exchange, Failure, mask

from ..ladder_plan import LadderCalls, RungFailed, RungRemark, nothing_to_try
from ..transport import LimitedStream, TransportError

LARGEST = 1024 * 1024
_CREDENTIAL = ("unknown_key", "wrong_secret", "key_ended")
# What a stream says of a key that has not reached it yet.
_NOT_SPREAD = ("unknown_key", "wrong_secret")


class StreamEntry:
    """One line is opened at Reach, secured at Secure, and used for the frames."""

    lacks = "its key may not do"
    shows_secret = True

    def __init__(self, calls: LadderCalls) -> None:
        self.calls = calls
        self.line: LimitedStream | None = None
        self.topics: list[str] = []

    def addresses(self) -> tuple[str, ...]:
        """The stream's own place."""
        return (f"tls://{self.calls.plan.stream_address}",)

    def sign_in(self) -> str:
        """The stream's own sign-in."""
        held = self.calls.plan.held
        key, secret = held.values.get("key_id", ""), held.secrets.get("key_secret", "")
        if not key or not secret:
            raise RungFailed(
                Failure(
                    "setting",
                    "not_complete",
                    CauseClass.CREDENTIAL,
                    "Key ID or key secret is missing.",
                )
            )
        with self.calls.transport.within(self.calls.transport.limits.total):
            answer = self._signed_in()
        if not answer.get("ok"):
            code = str(answer.get("error", "refused"))
            cause = (
                CauseClass.CREDENTIAL
                if code in _CREDENTIAL
                else CauseClass.RIGHT
                if code == "forbidden"
                else CauseClass.UNKNOWN
            )
            raise RungFailed(Failure("resource", code, cause, str(answer.get("says", ""))))
        return f"signed in to the stream as {answer.get('as', key)}"

    def _signed_in(self) -> dict[str, Any]:
        """The answer to signing in; a new key that is not known yet is tried again, as an HTTP one
        is.
        """
        calls, held = self.calls, self.calls.plan.held
        place = take_apart(f"tls://{calls.plan.stream_address}")
        host, port = place.host or "", int(place.port or 0)
        self.line = calls.transport.take_line(host, port)
        while True:
            answer = self.ask(
                {
                    "do": "sign_in",
                    "key": held.values.get("key_id", ""),
                    "secret": held.secrets.get("key_secret", ""),
                }
            )
            unknown_yet = not answer.get("ok") and answer.get("error") in _NOT_SPREAD
            if not unknown_yet or not calls.wait_to_spread():
                return answer
            calls.transport.reach(host, port)  # most close the line that they refused
            self.line = calls.transport.take_line(host, port)

    def ask(self, message: dict[str, Any]) -> dict[str, Any]:
        """Send a frame and read the answer. Both are kept as evidence, with the secret masked."""
        assert self.line is not None
        begun, secrets = time.perf_counter(), self.secrets()
        shown = mask(
            json.dumps(
                {**message, **({"secret": MASK} if "secret" in message else {})}, ensure_ascii=False
            ),
            secrets,
        )
        sent: dict[str, Any] = {
            "method": str(message["do"]).upper(),
            "url": f"tls://{self.calls.plan.stream_address}",
            "request_headers": (),
            "request_body": shown,
        }
        self.calls.transport.begin()
        try:
            body = json.dumps(message).encode("utf-8")
            self.line.write(struct.pack("!I", len(body)) + body)
            size = struct.unpack("!I", self._exactly(4))[0]
            if size > LARGEST:
                raise RungFailed(
                    Failure(
                        "socket",
                        "too_large",
                        CauseClass.THEIRS,
                        f"A frame of {size} octets was announced.",
                    )
                )
            raw = self._exactly(size)
            answer = json.loads(raw)
            if not isinstance(answer, dict):
                raise ValueError("not an object")
        except TransportError as error:
            self.calls.exchanges.append(
                Exchange(
                    **sent,
                    status=None,
                    ms=_since(begun),
                    error=error.failure.detail or error.failure.code,
                )
            )
            raise
        except (ValueError, RecursionError) as error:
            raise RungFailed(
                Failure(
                    "socket",
                    "reset",
                    CauseClass.THEIRS,
                    "What came back is not a frame of this protocol; check host and port.",
                )
            ) from error
        said = "ok" if answer.get("ok") else str(answer.get("error", "refused"))[:60]
        self.calls.exchanges.append(
            Exchange(
                **sent,
                status=None,
                error=said,
                response_size=size,
                ms=_since(begun),
                response_body=mask(raw.decode("utf-8", "replace")[:4000], secrets),
            )
        )
        return answer

    def _exactly(self, count: int) -> bytes:
        assert self.line is not None
        parts, left = [], count
        while left:
            part = self.line.read(left)
            if not part:
                raise TransportError(
                    Failure(
                        "socket",
                        "reset",
                        CauseClass.THEIRS,
                        "The stream was closed in the middle of a frame.",
                    )
                )
            parts.append(part)
            left -= len(part)
        return b"".join(parts)

    def request(self, method: str, address: str, body: dict[str, object] | None) -> oauth2.Request:
        """A stream has no such calls."""
        raise RungFailed(
            Failure(
                "setting", "not_complete", CauseClass.UNKNOWN, "A stream has no operations to call."
            )
        )

    def renew(self) -> bool:
        """There is no other than the one we hold."""
        return False

    def granted(self) -> frozenset[str] | None:
        """The key's rights, as far as somebody noted them."""
        return self.calls.plan.rights

    def secrets(self) -> tuple[str, ...]:
        """All secrets of the connection."""
        further = (
            secret for other in self.calls.plan.further for secret in other.held.secrets.values()
        )
        return tuple(
            secret for secret in (*self.calls.plan.held.secrets.values(), *further) if secret
        )

    def allowed(self) -> RungRemark | None:
        """List what is there."""
        answer = self.ask({"do": "list"})
        if not answer.get("ok"):
            raise RungFailed(
                Failure(
                    "resource",
                    str(answer.get("error", "refused")),
                    CauseClass.RIGHT,
                    str(answer.get("says", "")),
                )
            )
        self.topics = [str(topic) for topic in answer.get("topics", [])]
        return RungRemark(f"{len(self.topics)} streams are there: {', '.join(self.topics[:4])}")

    def worked(self) -> RungRemark | None:
        """Read the newest message of one."""
        if not self.topics:
            return nothing_to_try("there is no stream to read from")
        answer = self.ask({"do": "peek", "topic": self.topics[0]})
        if not answer.get("ok"):
            raise RungFailed(
                Failure(
                    "work",
                    str(answer.get("error", "refused")),
                    CauseClass.RIGHT,
                    f"{self.topics[0]}: {answer.get('says', '')}",
                )
            )
        return RungRemark(f"read the newest message of {self.topics[0]}")


def _since(begun: float) -> float:
    return round((time.perf_counter() - begun) * 1000, 2)
