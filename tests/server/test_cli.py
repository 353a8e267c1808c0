"""The command line: sentences that say what to do, exit codes that programs can go by."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from server.instance.instance import ROOT, Instance
from server.intake.accounts import ACCESS, Account, Allowed, keep_own_account, write_accounts
from server.intake.mqtt import claimed_name
from server.intake.senders import Rates, Sender, Senders
from server.rules.keys import broker_hash
from server.runner import stack
from server.runner.cli import app

run = CliRunner().invoke


def test_format_lays_out_and_checks(tmp_path: Path) -> None:
    file = tmp_path / "a.ocu"
    file.write_text("decoder d for bytes\n  byte 0 a u8 # note\n")
    assert run(app, ["format", "--check", str(file)]).exit_code == 1
    assert run(app, ["format", str(file)]).exit_code == 0
    assert file.read_text() == "decoder d for bytes\n  byte 0  a  u8  # note\n"
    assert run(app, ["format", "--check", str(file)]).exit_code == 0


def test_format_says_where_a_mistake_is(tmp_path: Path) -> None:
    file = tmp_path / "a.ocu"
    file.write_text("decoder d for bytes\n  byte 0 a u8 /\n")
    result = run(app, ["format", str(file)])
    assert result.exit_code == 1 and f"{file}:2:16: the line ends too early: expected" in result.output


def test_unknown_benchmarks_and_stages_are_named() -> None:
    said = run(app, ["bench", "speed"]).output
    assert "there is no benchmark `speed`: choose alarms or decode or faults or" in said and "or trial" in said
    assert "there is no stage `everything`" in run(app, ["test", "everything"]).output


def test_status_tells_what_runs_as_json(instance: Any) -> None:
    result = run(app, ["status", "--json"])
    found = json.loads(result.output)
    parts = found["parts"]
    assert parts["postgres"]["works"] and parts["broker"]["works"] and not parts["engine"]["works"]
    assert found["where"]["web"] == instance.address and result.exit_code == 3


def test_decoding_is_measured_and_compared() -> None:
    found = json.loads(run(app, ["bench", "decode", "--seconds", "0.2", "--json"]).stdout.strip().split("\n")[-1])
    assert found["bench"] == "decode" and found["figures"]["fixed_messages_per_s_500"] > 0
    assert found["ratios"]["fixed_to_numpy_500"] == pytest.approx(
        found["figures"]["fixed_messages_per_s_500"] / found["figures"]["fixed_numpy_messages_per_s_500"]
    )


def test_intake_and_decoding_again_are_measured_as_they_are_now() -> None:
    """Benchmarks know tables and questions that change: these two are run, small, beside each other."""
    running = [
        subprocess.Popen(
            [sys.executable, "-m", "server.runner", "bench", name, "--seconds", "1", "--json"],
            env=os.environ | {"OCULUM_BENCH_MESSAGES": "2000"},
            cwd=ROOT,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for name in ("ingest", "redecode")
    ]
    told = [one.communicate() for one in running]
    assert [one.returncode for one in running] == [0, 0], [said[-2000:] for _, said in told]
    ingest, again = (json.loads(found.strip().split("\n")[-1])["figures"] for found, _ in told)
    assert ingest["sent"] == ingest["committed"] > 0 == ingest["lost"] == ingest["doubled"]
    assert again["messages"] == 2000 and again["apply_messages_per_s"] > 0


def test_a_taken_port_is_noticed() -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        assert stack.port_taken(other.getsockname()[1])
    base = stack.free_ports()
    assert not any(stack.port_taken(port) for port in range(base, base + 3))


def test_secrets_are_random_and_private(tmp_path: Path) -> None:
    one, other = (Instance(tmp_path / name, 1, 2, 3) for name in ("one", "other"))
    assert one.secret("a") == one.secret("a") != one.secret("b") and one.secret("a") != other.secret("a")
    assert (tmp_path / "one" / "secrets" / "a").stat().st_mode & 0o077 == 0
    one.keep_private("x.json", {"key": "value"})
    assert one.private("x.json") == {"key": "value"} and one.private("none.json") is None
    assert (tmp_path / "one" / "secrets" / "x.json").stat().st_mode & 0o077 == 0


def test_accounts_are_one_line_each_and_written_only_when_they_differ(tmp_path: Path) -> None:
    instance, allowed = Instance(tmp_path, 1, 2, 3), Allowed(600, 1000)
    (tmp_path / "mosquitto").mkdir()
    accounts = [Account(f"pod-{i}", broker_hash(f"key {i}"), 1 + 3 * (i == 2)) for i in range(3)]
    assert write_accounts(instance, accounts, allowed) and not write_accounts(instance, accounts, allowed)
    lines = (tmp_path / "mosquitto" / "passwords").read_text().splitlines()
    assert [line.split(":")[0] for line in lines] == ["oculum-intake", "pod-0", "pod-1", "pod-2"]
    assert (tmp_path / "mosquitto" / "access").read_text() == ACCESS and "key" not in "".join(lines[1:])
    assert (tmp_path / "mosquitto" / "limits").read_text() == "* 600 1000\npod-2 2400 4000\n"
    assert write_accounts(instance, accounts[:1], allowed)


def test_oculums_own_accounts_are_nobody_elses_whatever_the_database_says(tmp_path: Path) -> None:
    """A device by that name from before it was refused, a name that would break the file, secrets restored late."""
    instance, allowed = Instance(tmp_path, 1, 2, 3), Allowed(600, 1000)
    (tmp_path / "mosquitto").mkdir()
    names = ["oculum-intake", "oculum", "oculum-else", "a\nuser oculum-intake", "b:c", "Pod", "pod-1"]
    write_accounts(instance, [Account(name, "hash") for name in names], allowed)
    path = tmp_path / "mosquitto" / "passwords"
    assert [line.split(":")[0] for line in path.read_text().splitlines()] == ["oculum-intake", "pod-1"]
    own = instance.private("broker.json")
    instance.keep_private("broker.json", {"key": "another", "hash": "another hash"})
    keep_own_account(instance, allowed)
    assert path.read_text() == "oculum-intake:another hash\npod-1:hash\n" and own is not None


@pytest.mark.parametrize(
    "topic,named",
    [
        ("up/pod-0", ("pod-0", None)),
        ("up/pod-0/status", ("pod-0", None)),
        ("up/gate/for/pod-3", ("gate", "pod-3")),
        ("up/gate/for/pod-3/x", ("gate", "pod-3")),
        ("up/gate/for/" + "x" * 200, ("gate", "x" * 63)),
        ("down/pod-0", None),
        ("up", None),
        ("", None),
    ],
)
def test_topics_name_who_speaks_and_for_whom(topic: str, named: tuple | None) -> None:
    assert claimed_name(topic) == named


def test_rates_slide_over_the_minute(monkeypatch: pytest.MonkeyPatch) -> None:
    clock = [6000.0]
    monkeypatch.setattr("server.intake.senders.time.monotonic", lambda: clock[0])
    rates = Rates(10, 1000)
    assert [rates.allow("a", 1) for _ in range(11)] == [True] * 10 + [False]
    assert rates.allow("b", 1), "another's rate is its own"
    clock[0] += 90  # half of the earlier minute still counts
    assert [rates.allow("a", 1) for _ in range(6)] == [True] * 5 + [False]
    clock[0] += 120
    assert not rates.allow("a", 1001) and rates.allow("a", 1000) and not rates.allow("a", 1)


def test_keys_are_found_by_prefix_and_held_against_their_hash() -> None:
    from server.rules.keys import digest, new_key

    key, prefix, hashed = new_key("d")
    senders = Senders()
    senders.fill([(1, "pod-0", 5, prefix, hashed, "hash", 1)], [("pod-0", 5, None), ("pod-3", 8, 7)])
    sender = senders.with_key(key)
    assert isinstance(sender, Sender) and sender.device_id == 5 and digest(key) == hashed
    assert (
        senders.with_key(key[:-1] + "0") is None
        and senders.with_key("") is None
        and senders.with_key(key.replace("ocd", "oct")) is None
    )
    assert senders.source(sender, "pod-3").unknown == "pod-3", "only a gateway speaks for what is behind it"
    assert senders.source(sender, None).device_id == 5


def test_an_environment_that_was_made_for_another_folder_is_made_anew(tmp_path: Path) -> None:
    """A copied checkout would run the original's code. Without a package index the new one cannot be finished here."""
    shutil.copy(ROOT / "oculum", tmp_path)
    shutil.copy(ROOT / "requirements.txt", tmp_path)
    stranger = tmp_path / ".venv" / "bin" / "python"
    stranger.parent.mkdir(parents=True)
    stranger.write_text("#!/bin/sh\necho the original\n")
    stranger.chmod(0o755)
    (tmp_path / ".venv" / ".home").write_text("/somewhere/else\n")
    found = subprocess.run(
        [tmp_path / "oculum", "check", "x.ocu"],
        env={**os.environ, "PIP_NO_INDEX": "1"},
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    assert found.returncode == 1 and "the original" not in found.stdout
    assert "made for another folder" in found.stderr and "pip could not install" in found.stderr
    assert not stranger.exists() or "the original" not in stranger.read_text(errors="replace")[:100]


def test_a_time_far_ahead_is_refused_by_the_command_line_as_by_the_server(tmp_path: Path) -> None:
    from server.runner.workbench import decode_case, decoder

    path, noon = tmp_path / "d.ocu", 1_772_366_400
    path.write_text(
        'decoder d for bytes, big endian\n  byte 0  t  time u32 s since "1970-01-01"  hidden\n'
        "  stamp t\n  next  v  u8\n"
    )
    for ahead, found in ((300, "readings"), (301, "error")):
        payload = (noon + ahead).to_bytes(4, "big").hex() + "01"
        assert found in decode_case(decoder(path), {"payload_hex": payload, "received_at": "2026-03-01T12:00:00Z"})
