"""Whether the time to refuse a key tells how much of it was right; a comparison that does tell
stands beside it in the same run.

``python -m bench.comparing``: manually, on a machine that does nothing else. Keys are shown that
begin with 0 to 42 of the secret's 43 characters, and as many that begin so with a secret that
nobody has: a processor is quicker or slower with what it sees often, whether it is right or not.
All have a check that holds, and come in random order. For each length, Mann and Whitney (1947) ask
whether the two kinds take different times.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from scipy import stats

ROOT = Path(__file__).resolve().parents[1]
LENGTHS, EACH = (1, 10, 21, 32, 42), 4000
RUN = f"""
import json, random, time
import django

django.setup()
from django.core.management import call_command

call_command("migrate", verbosity=0)
from django.utils import timezone
from neatlatch.core import house_key
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.desk.estate.records.applications.models import Application, Environment, Deployment
from neatlatch.desk.estate.records.clients.models import ProviderAccount
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.authority.house import issuing

LETTERS = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
now = timezone.now()
environment = Environment.objects.get(key="sandbox")
application = Application.objects.create(
    key="quay", name="Quay", profile={{"schemes": [{{"key": "bearer"}}]}}
)
deployment = Deployment.objects.create(
    application=application, environment=environment, house=True, changed_at=now
)
client = ProviderAccount.objects.create(
    deployment=deployment,
    name="A caller",
    scheme="bearer",
    house=True,
    state="live",
    changed_at=now,
)
key = house_key.make(house_key.API_KEY, "sandbox", random.randbytes(8), random.randbytes(32))
read = house_key.read(key)
Credential.objects.create(
    client=client,
    kind="token",
    digest=read.digest,
    fingerprint="f",
    hint=read.hint,
    secret_id=read.id,
    issued=now,
)
assert issuing.find_key(environment, key, now).client == client
start, _, secret = key.rpartition("_")[0].rpartition("_")
nobodys = random.choice(LETTERS.replace(secret[0], "")) + "".join(random.choices(LETTERS, k=42))


def wrong(kind, length):
    begins = secret if kind == "right" else nobodys
    other = (
        begins[:length]
        + random.choice(LETTERS.replace(begins[length], ""))
        + "".join(random.choices(LETTERS, k=42 - length))
    )
    text = f"{{start}}_{{other}}"
    return f"{{text}}_{{house_key.check_of(text)}}", other


def ours(shown, _):
    try:
        issuing.find_key(environment, shown, now)
    except RequestRefused as error:
        assert error.logged == "key wrong"
        return
    raise AssertionError


def core(shown, _):
    assert not house_key.same(read.digest, house_key.read(shown).digest)


def leaky(_, shown):
    for one, other in zip(secret, shown):
        if one != other:
            return


# Made in random order as well: where a text lies in memory tells of its group.
order = [(kind, length) for kind in ("right", "nobodys") for length in {LENGTHS}] * {EACH}
random.shuffle(order)
shown = [(*one, *wrong(*one)) for one in order]
found = []
for name, act in (
    ("the authority, its database included", ours),
    ("its reading and comparing alone", core),
    ("character by character", leaky),
):
    random.shuffle(shown)
    for _, _, *both in shown[:500]:
        act(*both)
    times = {{kind: {{length: [] for length in {{LENGTHS}}}} for kind in ("right", "nobodys")}}
    for kind, length, *both in shown:
        began = time.perf_counter_ns()
        act(*both)
        times[kind][length].append(time.perf_counter_ns() - began)
    found.append((name, times))
print(json.dumps(found))
"""


def main() -> None:
    """Measure, and print."""
    with tempfile.TemporaryDirectory() as folder:
        environment = {
            **os.environ,
            "NEATLATCH_HOME": folder,
            "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
        }
        told = subprocess.run(
            [sys.executable, "-c", RUN],
            cwd=ROOT,
            env=environment,
            check=True,
            stdout=subprocess.PIPE,
            text=True,
        ).stdout
    for name, times in json.loads(told):
        print(f"{name}: median times in µs of keys that begin right, and with nobody's secret")
        for length in map(str, LENGTHS):
            right, nobodys = times["right"][length], times["nobodys"][length]
            p = stats.mannwhitneyu(right, nobodys).pvalue
            print(
                f"  {length:>2} characters: "
                f"{sorted(right)[EACH // 2] / 1000:9.2f}{sorted(nobodys)[EACH // 2] / 1000:9.2f} "
                f"  p = {p:.2g}"
            )


if __name__ == "__main__":
    main()
