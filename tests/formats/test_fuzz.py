"""Some thousand mutated inputs over every reader (`fuzz.py`): one sentence each, or all is well."""

import fuzz


def test_nothing_but_a_sentence_comes_of_mutated_inputs():
    assert fuzz.run(7_000_000, 2_500) == []


def test_nor_by_commands_of_their_own():
    assert fuzz.run(8_000_000, 6, fuzz.apart) == []


def test_the_judges_can_fail(tmp_path, monkeypatch):
    def broken(data, folder):
        raise KeyError(data)

    monkeypatch.setattr(fuzz, "KINDS", tuple(kind._replace(read=broken) for kind in fuzz.KINDS))
    assert "KeyError" in fuzz.one(0, tmp_path)
    monkeypatch.setattr(fuzz, "SLOW", -1.0)
    monkeypatch.setattr(
        fuzz, "KINDS", tuple(kind._replace(read=lambda *_: None) for kind in fuzz.KINDS)
    )
    assert "took" in fuzz.one(0, tmp_path)
