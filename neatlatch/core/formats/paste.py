"""Lines to paste into a job, so that it draws a connection by its name, which is the same in each
environment, and holds no secret of it. The job's own key comes from its environment.
"""

from __future__ import annotations

from collections.abc import Mapping


def lines(url: str, name: str, path: str = "/") -> Mapping[str, str]:
    """Ready lines by language.

    ``url`` is this desk's address, ``path`` an operation to show it with. The key is read from
    ``NLATCH_KEY``.
    """
    own = "Authorization: Bearer $NLATCH_KEY"
    where, draw, relay = path.lstrip("/"), f"{url}/draw/{name}", f"{url}/relay/{name}"
    return {
        "curl": f'curl -H "{own}" {relay}/{where}',
        "curl, header only": (
            f'curl -s -H "{own}" -H "Accept: text/plain" {draw} | curl -H @- '
            f'"$BASE/{where}"\n# BASE: the application\'s API base address, which {draw} '
            f"answers as JSON"
        ),
        "Python, requests": (
            "import os, requests\n"
            f'key = {{"Authorization": f"Bearer {{os.environ[\'NLATCH_KEY\']}}"}}\n'
            f'drawn = requests.get("{draw}", headers=key, timeout=30).json()\n'
            f'answer = requests.get(drawn["base"] + "/{where}", headers=drawn["headers"], '
            f'params=drawn["query"], timeout=30)'
        ),
        "Python, httpx": (
            "import os, httpx\n"
            f'key = {{"Authorization": f"Bearer {{os.environ[\'NLATCH_KEY\']}}"}}\n'
            f'drawn = httpx.get("{draw}", headers=key, timeout=30).json()\n'
            f'answer = httpx.get(drawn["base"] + "/{where}", headers=drawn["headers"], '
            f'params=drawn["query"], timeout=30)'
        ),
        "JavaScript": (
            "const key = { Authorization: `Bearer ${process.env.NLATCH_KEY}` }\n"
            f'const drawn = await (await fetch("{draw}", {{ headers: key }})).json()\n'
            f'const address = new URL(drawn.base + "/{where}")\n'
            "for (const [name, value] of Object.entries(drawn.query)) "
            "address.searchParams.set(name, value)\n"
            "const answer = await fetch(address, { headers: drawn.headers })"
        ),
        ".env reference": (
            f"NLATCH_URL={url}\nNLATCH_NAME={name}\n# NLATCH_KEY is this job's own key; it is "
            f"handed over once and kept nowhere else"
        ),
    }
