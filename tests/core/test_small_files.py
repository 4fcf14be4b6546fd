"""Files that say some things of some objects, and several files that are one import."""

from __future__ import annotations

import pytest

from neatlatch.core.inventory import merging, reading, several_files, small_files
from neatlatch.core.inventory.several_files import InventoryFile
from neatlatch.core.inventory.shape import Content

HEAD = "neat_latch_inventory: 3\n"
ONE = f"""{HEAD}connections:
  sandbox/cargo:
    pace: 4
"""
OTHER = f"""{HEAD}workloads:
  Night run/sandbox:
    name: Night run
    environment: sandbox
"""
CONNECTION = """  {ref}:
    deployment: cargo/sandbox
    scheme: bearer
    scopes: [read]
    secrets: {{token: "safe:1"}}
"""


def as_it_is() -> Content:
    text = f"{HEAD}base: x\nconnections:\n{CONNECTION.format(ref='sandbox/cargo')}"
    return reading.read(text).content


def test_what_a_file_does_not_say_stays() -> None:
    found, current = reading.read(ONE), as_it_is()
    wanted = small_files.completed(found.content, found.said, current)
    (change,) = merging.merge(current, wanted, None, found.lines).changes
    assert (change.act, change.says) == ("change", ("pace: 10.0 became 4.0",))
    after = wanted["connections"]["sandbox/cargo"]
    assert (after["secrets"], after["scopes"]) == ({"token": "safe:1"}, ["read"])
    # What it does say is so, even where that is nothing.
    emptied = reading.read(ONE.replace("pace: 4", "scopes: []"))
    wanted = small_files.completed(emptied.content, emptied.said, current)
    assert wanted["connections"]["sandbox/cargo"]["scopes"] == []


def test_a_file_with_a_base_says_all_of_each_object() -> None:
    text = f"{HEAD}base: x\nconnections:\n{CONNECTION.format(ref='sandbox/cargo')}"
    found = reading.read(text.replace("    scopes: [read]\n", ""))
    assert (found.said, found.lacking) == ({}, ())
    assert found.content["connections"]["sandbox/cargo"]["scopes"] == []


def test_an_object_that_is_not_there_yet_lacks_what_it_must_have() -> None:
    found = reading.read(ONE)
    assert {lacks.field for lacks in found.lacking} == {"deployment", "scheme"}
    assert list(small_files.lacking(found.lacking, as_it_is())) == []
    mistakes = list(small_files.lacking(found.lacking, {}))
    assert [mistake.line for mistake in mistakes] == [3, 3]
    assert "there is no connection 'sandbox/cargo' yet" in str(mistakes[0])
    with pytest.raises(reading.BadInventory, match="“deployment” is missing"):
        reading.read(f"{HEAD}base: x\nconnections:\n  sandbox/cargo: {{pace: 4}}\n")
    # Said to be empty is wrong wherever it is.
    with pytest.raises(reading.BadInventory, match="“scheme” is missing"):
        reading.read(ONE.replace("pace: 4", "scheme: ''"))


def test_a_client_without_an_id_is_that_of_its_name() -> None:
    text = f"{HEAD}clients:\n  cargo/sandbox/Ours:\n    deployment: cargo/sandbox\n    name: Ours\n"
    content = reading.read(text).content
    first = small_files.with_client_ids(content, {})["clients"]["cargo/sandbox/Ours"]["id"]
    again = small_files.with_client_ids(content, {})["clients"]["cargo/sandbox/Ours"]["id"]
    assert first == again != ""
    current: Content = {"clients": {"cargo/sandbox/Ours": {"id": "known"}}}
    assert small_files.with_client_ids(content, current)["clients"] == {
        "cargo/sandbox/Ours": {**content["clients"]["cargo/sandbox/Ours"], "id": "known"}
    }
    said = text + "    id: given\n"
    content = small_files.with_client_ids(reading.read(said).content, current)
    assert content["clients"]["cargo/sandbox/Ours"]["id"] == "given"


def files(*texts: str) -> list[InventoryFile]:
    return [InventoryFile(f"{number}.yaml", text) for number, text in enumerate(texts, 1)]


def test_several_files_are_one() -> None:
    found = several_files.read(files(ONE, OTHER))
    assert set(found.content["connections"]) == {"sandbox/cargo"}
    assert set(found.content["workloads"]) == {"Night run/sandbox"}
    assert found.files == {
        ("connections", "sandbox/cargo"): "1.yaml",
        ("workloads", "Night run/sandbox"): "2.yaml",
    }
    assert {lacks.file for lacks in found.lacking} == {"1.yaml"}
    assert [reference.named for reference in found.references] == ["sandbox"]
    # One alone has no name to tell it from others.
    assert several_files.read(files(ONE)).files == {}
    assert several_files.read(files(ONE)) == reading.read(ONE)


def test_mistakes_of_several_files_are_told_by_their_names() -> None:
    with pytest.raises(reading.BadInventory) as refused:
        several_files.read(files(ONE.replace("4", "fast"), OTHER.replace("name:", "nom:"), "x"))
    told = [(mistake.file, mistake.line) for mistake in refused.value.mistakes]
    assert told == [("1.yaml", 4), ("2.yaml", 4), ("3.yaml", 1)]
    assert str(refused.value.mistakes[0]).startswith("1.yaml, line 4: ")


def test_an_object_is_in_one_file_only() -> None:
    with pytest.raises(reading.BadInventory) as refused:
        several_files.read(files(ONE, OTHER, HEAD + "# a comment\n" + ONE.partition("\n")[2]))
    (mistake,) = refused.value.mistakes
    assert (mistake.file, mistake.line) == ("3.yaml", 4)
    assert mistake.says == "it is in 1.yaml already, line 3"


def test_files_are_of_one_export_or_of_none() -> None:
    exported = f"{HEAD}base: x\nconnections:\n{CONNECTION.format(ref='sandbox/cargo')}"
    with pytest.raises(reading.BadInventory, match="the same export"):
        several_files.read(files(exported, OTHER))
    both = several_files.read(files(exported, OTHER.replace(HEAD, f"{HEAD}base: x\n")))
    assert both.base == "x"
    with pytest.raises(reading.BadInventory, match="there is no file"):
        several_files.read([])
