"""The public functions, and the examples of their documentation."""

from __future__ import annotations

import decimal
import re
import shutil
from decimal import Decimal
from pathlib import Path

import pytest

import sabueso

PAGE = Path(__file__).parents[2] / "docs" / "python.md"


def test_examples_of_the_page(marisma, tmp_path, monkeypatch, capsys):
    shutil.copytree(marisma, tmp_path / "marisma")
    monkeypatch.chdir(tmp_path)
    examples = re.findall(r"```python\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL)
    assert len(examples) == 3
    names: dict[str, object] = {}
    for example in examples:
        exec(compile(example, str(PAGE), "exec"), names)
    said = capsys.readouterr().out.splitlines()
    assert re.fullmatch(r"[\d]+ rows used, [1-9]\d* flagged", said[0])
    assert said[-1] == "35996 rows of 24 files: 41624218.30"
    with sabueso.open_case("marisma") as case:
        (reviewed,) = sabueso.review(case, [names["first"].id])
    assert reviewed.review.status == "cleared"
    assert reviewed.review.initials == "KL"


def test_every_public_name_is_documented():
    text = PAGE.read_text(encoding="utf-8")
    for name in sabueso.__all__:
        found = getattr(sabueso, name)
        if callable(found):
            assert found.__doc__, name
        if callable(found) and name[0].islower():
            assert f"`{name}(" in text, name
    with pytest.raises(AttributeError):
        _ = sabueso.nothing


def test_amounts_are_exact_whatever_the_caller_calculates_with(tmp_path):
    file = tmp_path / "big.csv"
    amounts = ["12345678901234567890.01", "0.02", "98765432109876543210.99"]
    file.write_text("id,amount\n" + "".join(f"{i},{a}\n" for i, a in enumerate(amounts)))
    with decimal.localcontext() as context:
        context.prec = 6
        case = sabueso.new_case(tmp_path / "case")
        report = sabueso.take_in(case, "big", [file])
        total = sabueso.dig(case, "big").total.value
        case.close()
        expected = Decimal("111111111011111111101.02")
        assert report.amount_sum == total == expected


def test_what_does_not_fit_is_one_sentence(marisma):
    with sabueso.open_case(marisma) as case:
        for wrong in (
            lambda: sabueso.try_test(case, "zscores", "payments"),
            lambda: sabueso.try_test(case, "zscore", "payments", limits=3),
            lambda: sabueso.dig(case, "payment"),
            lambda: sabueso.review(case, ["PAY-00000"], "cleared", reason="x", initials="KL"),
            lambda: sabueso.queue(case, status="open", table="payment"),
            lambda: sabueso.review(case, [sabueso.queue(case)[0].id], "closed"),
        ):
            with pytest.raises(sabueso.UserError) as caught:
                wrong()
            assert "\n" not in str(caught.value)
