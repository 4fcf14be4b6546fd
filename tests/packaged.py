"""The package, built and installed by hashes into a fresh environment."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from tests.harness import ROOT, free_ports
from tests.served import OF_THE_MACHINE, Served
from tests.settings import HOME_OF_TESTS


def run(*command: str, **more: str) -> str:
    """What a command prints; it must end well."""
    done = subprocess.run(
        command,
        cwd=ROOT,
        env={**OF_THE_MACHINE, **more},
        capture_output=True,
        text=True,
        timeout=600,
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def build(folder: Path) -> Path:
    """Build the package into a folder."""
    run("bin/package", str(folder))
    return folder


def install(package: Path, folder: Path) -> Path:
    """Install the package into a fresh environment; return the folder of its programs."""
    run(sys.executable, "-m", "venv", str(folder))
    done = subprocess.run(
        [str(folder / "bin" / "pip"), "install", "--quiet", "--no-deps", "--require-hashes"]
        + ["-r", "requirements.txt"],
        cwd=package,
        env={**os.environ, "PYTHONDONTWRITEBYTECODE": ""},
        capture_output=True,
        text=True,
        timeout=600,
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return folder / "bin"


def start(installed: Path, home: Path, folder: Path) -> Served:
    trust = HOME_OF_TESTS / "standins" / "certificates" / "root.pem"
    return Served(
        home,
        free_ports((0, 1)),
        command=(str(installed / "nlatch"),),
        folder=folder,
        environment={
            "PATH": str(installed),
            "PYTHONPATH": "",
            "PYTHONDONTWRITEBYTECODE": "",
            "NEATLATCH_TRUST": str(trust),
            "NEATLATCH_ALLOWED_RANGES": "127.0.0.0/8",
        },
    )
