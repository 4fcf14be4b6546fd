"""The command that gives connections the same name in each environment."""

from __future__ import annotations

import argparse


def _join(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import acting, set_up

    set_up()
    from neatlatch.desk.estate.connections import naming

    by = None if arguments.preview else acting(arguments.person)
    if by is None and not arguments.preview:
        return 2
    proposed = kept = 0
    after = ""
    while True:
        page = naming.proposals(after)
        possible = [proposal for proposal in page.proposals if not proposal.obstacle]
        for proposal in page.proposals:
            says = f"stays: {proposal.obstacle}" if proposal.obstacle else proposal.becomes
            print(f"{proposal.reference:<50} {says}")
        refused = []
        if by is not None:
            wanted = [(proposal.reference, proposal.joined) for proposal in possible]
            refused = [done for done in naming.rename_all(by, wanted) if done.problem]
            for done in refused:
                print(f"{done.ref:<50} was not renamed: {done.problem}")
        proposed += len(possible) - len(refused)
        kept += len(page.proposals) - len(possible) + len(refused)
        if not (after := page.following):
            break
    if not proposed and not kept:
        print("No connection's name says its environment.")
        return 0
    also = f" {kept:,} stay as they are." if kept else ""
    if arguments.preview:
        print(f"{proposed:,} connections would be renamed.{also}")
        return 0
    print(
        f"{proposed:,} connections were renamed.{also} Workloads may draw by a former name until "
        f"nobody has for {naming.SERVES.days} days."
    )
    return 1 if kept else 0


def add_to(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the command."""
    parser = commands.add_parser(
        "join-names",
        help="take the environment out of connections' names, so that each is the same in all",
        description=(
            "cargo-manifests-sandbox in Sandbox becomes sandbox/cargo-manifests. Workloads may "
            "draw by a former name until nobody has for 30 days. Ends with 1 where a name stays "
            "because the new one is taken."
        ),
    )
    parser.add_argument("--preview", action="store_true", help="only say what would change")
    parser.add_argument(
        "--as", dest="person", default="", metavar="LOGIN", help="the administrator who does this"
    )
    parser.set_defaults(run=_join)
