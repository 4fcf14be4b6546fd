"""Whether the time to refuse a key tells how much of it was right; a comparison that does tell stands beside it in the same run.

``python -m bench.comparing``: by hand, on a machine that does nothing else. Keys whose first 0 to 42 characters of the secret are right, each with a check that
holds, are shown in random order to the authority's own way of finding a key. Kruskal and Wallis (1952) ask whether the times differ from group to group,
Spearman (1904) whether they grow with what is right.
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
RIGHT, EACH = (0, 10, 21, 32, 42), 4000
RUN = f"""
import json, random, time
import django; django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
from django.utils import timezone
from neatlatch.core import house_key
from neatlatch.core.authority.refusing import Refused
from neatlatch.desk.applications.models import Application, Environment, Place
from neatlatch.desk.clients.models import Client
from neatlatch.desk.credentials.models import Credential
from neatlatch.desk.house import issuing
now = timezone.now()
environment = Environment.objects.get(key="sandbox")
application = Application.objects.create(key="quay", name="Quay", profile={{"schemes": [{{"key": "bearer"}}]}})
place = Place.objects.create(application=application, environment=environment, house=True, changed_at=now)
client = Client.objects.create(place=place, name="A caller", scheme="bearer", house=True, state="live", changed_at=now)
key = house_key.make(house_key.API_KEY, "sandbox", random.randbytes(8), random.randbytes(32))
read = house_key.read(key)
Credential.objects.create(client=client, kind="token", digest=read.digest, fingerprint="f", hint=read.hint, secret_id=read.id, issued=now)
assert issuing.find_key(environment, key, now).client == client
start, _, secret = key.rpartition("_")[0].rpartition("_")
LETTERS = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

def wrong(right):
    other = secret[:right] + random.choice(LETTERS.replace(secret[right], "")) + "".join(random.choices(LETTERS, k=42 - right))
    text = f"{{start}}_{{other}}"
    return f"{{text}}_{{house_key.check_of(text)}}", other

def ours(shown, _):
    try:
        issuing.find_key(environment, shown, now)
    except Refused as error:
        assert error.logged == "key wrong"
        return
    raise AssertionError

def core(shown, _):
    assert not house_key.same(read.digest, house_key.read(shown).digest)

def leaky(_, shown):
    for one, other in zip(secret, shown):
        if one != other:
            return

shown = [(right, *wrong(right)) for right in {RIGHT} for _ in range({EACH})]
found = {{}}
for name, act in (("the authority, its database included", ours), ("its reading and comparing alone", core), ("character by character", leaky)):
    random.shuffle(shown)
    for _, *both in shown[:500]:
        act(*both)
    times = found[name] = {{right: [] for right in {RIGHT}}}
    for right, *both in shown:
        began = time.perf_counter_ns()
        act(*both)
        times[right].append(time.perf_counter_ns() - began)
print(json.dumps(found))
"""


def main() -> None:
    """Measure, and print."""
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "NEATLATCH_HOME": folder, "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings"}
        told = subprocess.run([sys.executable, "-c", RUN], cwd=ROOT, env=environment, check=True, stdout=subprocess.PIPE, text=True).stdout
    for name, times in json.loads(told).items():
        groups = [times[str(right)] for right in RIGHT]
        medians = ", ".join(f"{right}: {sorted(group)[len(group) // 2] / 1000:.2f} µs" for right, group in zip(RIGHT, groups, strict=True))
        kruskal = stats.kruskal(*groups).pvalue
        grows = stats.spearmanr([right for right in RIGHT for _ in range(EACH)], [one for group in groups for one in group])
        print(f"{name}: medians by the number of right characters: {medians}")
        print(
            f"  the groups differ: p = {kruskal:.2g}; times grow with what is right: rho = {grows.statistic:+.3f}, p = {grows.pvalue:.2g}"
        )


if __name__ == "__main__":
    main()
