"""Commands that look after the safe: re-keying, backing up, restoring."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any


def _django(check: bool = True) -> bool:
    """Set the desk up, and look whether its key is the right one. Returns whether it is."""
    from neatlatch.local_desk import set_up

    set_up(makes=not check)
    if not check:
        return True
    from neatlatch.desk.ground.common import safe

    try:
        safe.check()
    except (safe.BadKeyFile, safe.CannotOpen) as error:
        print(f"nlatch: {error}", file=sys.stderr)
        return False
    return True


def _safe(arguments: argparse.Namespace) -> int:
    if not _django():
        return 1
    from neatlatch.desk.authority import rekeying
    from neatlatch.desk.ground.common import safe

    if arguments.forget is not None and arguments.act != "unsaved":
        print("nlatch: --forget goes with unsaved.", file=sys.stderr)
        return 2
    if arguments.act == "check":
        left = rekeying.behind()
        print(
            f"The key is the right one, version {safe.current_version()}."
            + (f" {left} values are sealed with an older one." if left else "")
        )
        return 0
    if arguments.act == "drop-old":
        try:
            gone = rekeying.drop_old()
        except ValueError as error:
            print(f"nlatch: {error}", file=sys.stderr)
            return 1
        print(
            f"Taken out of the key file: version {', '.join(map(str, gone))}. Older backups "
            f"open only with the key file that was kept with them."
            if gone
            else "There is no older key."
        )
        return 0
    if arguments.act == "unsaved":
        return _unsaved(arguments.forget)
    version, count = rekeying.begin(), rekeying.RekeyCount()
    for count in rekeying.seal_anew():
        if count.done and count.done % 200 == 0:
            print(f"{count.done} …", flush=True)
    print(
        f"{count.done} values are sealed again, with version {version}. The older key stays "
        f"in the key file, for old backups, until: nlatch safe drop-old"
    )
    if count.lost:
        print(
            f"{count.lost} values open with none of the keys; they were lost before, and "
            f"are left as they are.",
            file=sys.stderr,
        )
    print(
        "Back up the key file now: what is sealed with the new key opens with no older copy of it."
    )
    return 1 if count.lost else 0


def _unsaved(forgotten: str | None) -> int:
    """Try again to save what an application gave and could not be saved, and list what is left; or
    forget one of them.
    """
    from neatlatch.desk.ground import won

    if forgotten is not None:
        try:
            won.forget(forgotten)
        except KeyError:
            print(
                f"nlatch: Nothing called {forgotten} was set aside. nlatch safe unsaved "
                f"lists what was.",
                file=sys.stderr,
            )
            return 1
        print(f"Forgotten: {forgotten}.")
        return 0
    saved, left = won.take_up(again=True), won.unsaved()
    print(f"{saved} saved now, {len(left)} set aside.")
    for unsaved in left:
        print(f"{unsaved.since:%Y-%m-%d %H:%M} UTC  {unsaved.name}")
    return 1 if left else 0


def _back_up(arguments: argparse.Namespace) -> int:
    if not _django():
        return 1
    from neatlatch.desk.authority import backup

    try:
        copy, keys, entries = backup.back_up(arguments.folder, arguments.keys)
    except (backup.BackupError, OSError) as error:
        print(f"nlatch: {error}", file=sys.stderr)
        return 1
    print(f"{copy}: whole, with {entries} journal entries.")
    for file in keys:
        print(f"{file}: keep it apart from the copy.")
    if not keys:
        print(
            "The keys were not copied (--keys FOLDER does). Without safe.key nothing sealed "
            "in the copy opens again."
        )
    return 0


def _drill(arguments: argparse.Namespace) -> int:
    if not _django():
        return 1
    from neatlatch.desk.authority import scheduled_backups

    for file in (arguments.file, arguments.key):
        if not file.is_file():
            print(f"nlatch: {file} is not there.", file=sys.stderr)
            return 1
    found = scheduled_backups.try_out(arguments.file, arguments.key)
    print(f"{arguments.file}: {found.says} ({found.seconds:.0f} s)")
    return 0 if found.opens else 1


def _restore(arguments: argparse.Namespace) -> int:
    _django(check=False)
    from django.core.management import call_command

    from neatlatch.desk.authority import backup
    from neatlatch.desk.ground.common import safe

    try:
        entries, stamp = backup.put_back(arguments.file, arguments.key, arguments.replace)
        try:
            safe.check()
            call_command("migrate", verbosity=0, skip_checks=True)
            said: list[Any] = backup.settle(stamp, arguments.file)
        except BaseException:
            backup.take_back(stamp)
            raise
    except (backup.BackupError, OSError, safe.BadKeyFile, safe.CannotOpen) as error:
        print(f"nlatch: {error}", file=sys.stderr)
        return 1
    print(f"Restored, with {entries} journal entries.")
    for sentence in said:
        print(sentence)
    return 0


def add_to(commands: Any) -> None:
    """Add these commands to the parser."""
    one = commands.add_parser(
        "safe",
        help="look after the key of the safe",
        description=(
            "rekey seals every value with a new key while desk and worker run, and goes on "
            "where it was cut off."
        ),
    )
    one.add_argument("act", choices=["check", "rekey", "drop-old", "unsaved"])
    one.add_argument(
        "--forget",
        metavar="NAME",
        help="with unsaved: forget something that an application gave and that cannot be saved",
    )
    one.set_defaults(run=_safe)

    one = commands.add_parser(
        "backup", help="copy the database, whole and consistent, while everything runs"
    )
    one.add_argument("folder", type=Path, help="where the copy goes")
    one.add_argument(
        "--keys",
        type=Path,
        metavar="FOLDER",
        help="copy the keys, too, into another folder, which must not be below the first",
    )
    one.set_defaults(run=_back_up)

    one = commands.add_parser(
        "drill",
        help="prove that a backup opens: restore it on trial, in a folder that is gone afterwards",
    )
    one.add_argument("file", type=Path, help="the copy of the database")
    one.add_argument(
        "--key", type=Path, required=True, metavar="FILE", help="the safe.key that was kept with it"
    )
    one.set_defaults(run=_drill)

    one = commands.add_parser(
        "restore", help="put a backup and its key back, before anything is started"
    )
    one.add_argument("file", type=Path, help="the copy of the database")
    one.add_argument(
        "--key", type=Path, required=True, metavar="FILE", help="the safe.key that was kept with it"
    )
    one.add_argument("--replace", action="store_true", help="move an existing database aside")
    one.set_defaults(run=_restore)
