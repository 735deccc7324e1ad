"""`hawser doctor`: what it looks at, what it finds wrong, and what it keeps to itself."""

from __future__ import annotations

import json
import os
import time

import msgspec
import pytest

from hawser.cli import main
from hawser.ledger.ledger import Ledger
from hawser.service import doctor
from hawser.service.profiles.profile import profile
from hawser.service.watchdog.heartbeat import Pulse


def found(root) -> dict[str, list[doctor.Check]]:
    by_name: dict[str, list[doctor.Check]] = {}
    for one in doctor.examine(root):
        by_name.setdefault(one.name, []).append(one)
    return by_name


def pulse(where, **changes) -> None:
    told = Pulse(time=time.time(), pid=os.getpid(), account="own", open=0, waiting=0)
    where.heartbeat.write_bytes(msgspec.json.encode(msgspec.structs.replace(told, **changes)))


@pytest.fixture
def account(tmp_path):
    where = profile("own", tmp_path)
    Ledger(where.ledger).close()
    return where


def test_where_nothing_was_opened_nothing_is_wrong_and_nothing_is_made(tmp_path, capsys):
    assert main(["doctor", "--profile-root", str(tmp_path / "none")]) == 0
    told = capsys.readouterr().out
    assert "Nothing is wrong" in told
    assert f"{tmp_path / 'none' / 'data'} is not there yet" in told
    assert not (tmp_path / "none").exists()


def test_a_whole_record_and_a_process_that_is_there(account, tmp_path):
    pulse(account)
    told = found(tmp_path)["account own"]
    assert [one.ok for one in told] == [True, None, True]
    assert "the record is whole" in told[0].text
    assert "0 trades open" in told[1].text
    assert f"process {os.getpid()}" in told[2].text


def test_a_record_that_is_none_and_one_that_is_damaged(account, tmp_path, capsys):
    account.ledger.write_bytes(b"nothing of ours" * 100)
    assert main(["doctor", "--profile-root", str(tmp_path)]) == 1
    told = capsys.readouterr().out
    assert "WRONG account own" in told
    assert "1 thing wrong" in told or "2 things wrong" in told


def test_a_process_that_is_gone_and_a_clock_that_was_set_back(account, tmp_path):
    pulse(account, pid=1 << 30)
    gone = found(tmp_path)["account own"][-1]
    assert (gone.ok, gone.text.endswith("it is gone")) == (False, True)
    pulse(account, ended=True)
    assert found(tmp_path)["account own"][-1].ok is None
    pulse(account, time=time.time() + 500)
    assert "the clock was set back" in found(tmp_path)["clock"][0].text


def test_words_of_faults_and_secrets_are_kept_back(account, tmp_path, capsys):
    faults = account.state / "faults"
    faults.mkdir()
    (faults / "20310106-080000-001.txt").write_text(
        'Traceback (most recent call last):\n  File "/x/engine.py", line 7, in handle\n'
        "    boom\nValueError: https://hooks.example/secret-token\n"
    )
    alerts = account.config / "alerts-own.toml"
    alerts.write_text('password = "hidden"\n')
    alerts.chmod(0o644)
    assert main(["doctor", "--json", "--profile-root", str(tmp_path)]) == 1
    text = capsys.readouterr().out
    report = json.loads(text)
    assert report["ok"] is False
    assert "secret-token" not in text
    assert "hidden" not in text
    (fault,) = [one for one in report["checks"] if one["name"] == "fault"]
    assert fault["text"].startswith('ValueError, File "/x/engine.py", line 7, in handle')
    (secrets,) = [one for one in report["checks"] if one["name"] == "secrets"]
    assert secrets["text"].endswith(f"chmod 600 {alerts}")


def test_a_little_disk_is_told(account, tmp_path, monkeypatch):
    monkeypatch.setattr("shutil.disk_usage", lambda _: type("Usage", (), {"free": 1_000_000}))
    assert found(tmp_path)["disk"][0].ok is False


def test_a_record_in_use_is_looked_at_too(account, tmp_path):
    ledger = Ledger(account.ledger)
    assert found(tmp_path)["account own"][0].ok is True
    ledger.close()
