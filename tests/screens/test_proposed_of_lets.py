"""What is proposed of a workbook of flats that are let: contracts that overlap, rents that are not the contract's, fees."""

from __future__ import annotations

import random
from datetime import date, datetime, timedelta
from decimal import Decimal
from itertools import pairwise
from typing import Any

import pytest
import xlsxwriter

from conftest import inside, inside_json
from folders import asked_for

pytestmark = pytest.mark.long

STAFF = ["Marta Lima", "Paulo Rocha", "Rita Dias", "Nuno Alves"]
Rows = list[dict[str, Any]]


def _month(first: date, more: int) -> date:
    whole = first.year * 12 + first.month - 1 + more
    return date(whole // 12, whole % 12 + 1, 1)


def _contracts(rng: random.Random) -> Rows:
    """One after another in each flat."""
    rows: Rows = []
    for flat in range(70):
        begin = date(2022, rng.randint(1, 9), 1)
        while begin < date(2025, 3, 1):
            end = _month(begin, rng.choice([12, 18, 24]))
            rows.append(
                {
                    "Contrato": f"C{len(rows):04}",
                    "Imóvel": f"IM{flat + 100}",
                    "Inquilino": f"T{len(rows):04}",
                    "Início": begin,
                    "Fim": end - timedelta(days=1),
                    "Renda mensal": Decimal(rng.randint(80, 320) * 5),
                }
            )
            begin = _month(end, rng.choice([0, 0, 1]))
    return rows


def _world() -> tuple[dict[str, Rows], dict[str, set[str]]]:
    rng = random.Random(6)
    contracts = _contracts(rng)
    bills: Rows = []
    paid: Rows = []
    costs: Rows = []
    for month in (_month(date(2023, 1, 1), n) for n in range(24)):
        for contract in contracts:
            if not contract["Início"] <= month <= contract["Fim"]:
                continue
            rent, number = contract["Renda mensal"], f"F{len(bills):05}"
            bills.append({"Fatura": number, "Contrato": contract["Contrato"], "Mês": month, "Valor": rent})  # fmt: skip
            late = rng.random() < 0.15
            fee = (rent * Decimal("0.05")).quantize(Decimal("0.01")) if late else Decimal(0)
            day = month + timedelta(days=rng.randint(11, 25) if late else rng.randint(0, 7))
            paid.append({"Recibo": f"R{len(paid):05}", "Fatura": number, "Data": day, "Renda": rent, "Multa": fee, "Total": rent + fee})  # fmt: skip
    for n in range(500):
        who = rng.choice(STAFF[:3])
        amount = (
            Decimal(rng.choice([rng.randint(2_000, 60_000), rng.randint(2_000, 150_000)])) / 100
        )
        costs.append({"Despesa": f"D{n:04}", "Data": date(2023, 1, 2) + timedelta(days=n), "Fornecedor": f"Obras {rng.randint(1, 9)}", "Valor": amount, "Registado por": who})  # fmt: skip
    follow = [(one, two) for one, two in pairwise(contracts) if one["Imóvel"] == two["Imóvel"]]
    for _, two in follow[10:40:15]:
        two["Início"] -= timedelta(days=75)
    less = bills[50:450:100]
    for bill in less:
        bill["Valor"] -= 50
    wrong = [row for row in paid if row["Multa"]][5:45:20]
    for row in wrong:
        row["Multa"] += 10
        row["Total"] += 10
    for row in [row for row in costs if row["Registado por"] == STAFF[1]][:22]:
        row["Valor"] = Decimal(rng.randint(96_000, 99_900)) / 100
    staff = [{"Empregado": f"G{n}", "Nome": name, "Função": "gestor", "Data de entrada": date(2019, 3, 1 + n)} for n, name in enumerate(STAFF)]  # fmt: skip
    flats = [{"Imóvel": f"IM{n + 100}", "Morada": f"Rua Nova, {n}"} for n in range(70)]
    tenants = [{"Inquilino": c["Inquilino"], "Nome": f"Inquilino {n}", "NIF": str(200_000_000 + 317 * n)} for n, c in enumerate(contracts)]  # fmt: skip
    world = {
        "Contratos": contracts,
        "Cobranças": bills,
        "Recebimentos": paid,
        "Despesas": costs,
        "Pessoal": staff,
        "Inquilinos": tenants,
        "Imóveis": flats,
    }
    return world, {
        "Valor of cobrancas is Renda mensal of its Contrato": {bill["Fatura"] for bill in less},
        "Multa of recebimentos is 0.05 times Renda": {row["Recibo"] for row in wrong},
        "despesas just under 1000": {STAFF[1]},
    }


@pytest.fixture(scope="module")
def taken(tmp_path_factory):
    """The case, what was said of its folder, and what is wrong in it."""
    world, wrong = _world()
    case = tmp_path_factory.mktemp("lets")
    (case / "in").mkdir()
    with xlsxwriter.Workbook(case / "in" / "gestao.xlsx") as book:
        day = book.add_format({"num_format": "dd/mm/yyyy"})
        for name, rows in world.items():
            sheet = book.add_worksheet(name)
            sheet.write_row(0, 0, rows[0])
            for at, row in enumerate(rows, 1):
                for place, value in enumerate(row.values()):
                    if isinstance(value, date):
                        sheet.write_datetime(at, place, datetime(*value.timetuple()[:3]), day)
                    else:
                        sheet.write(at, place, float(value) if isinstance(value, Decimal) else value)  # fmt: skip
    inside("open", ".", cwd=case)
    return case, inside_json("intake", "in", "--yes", cwd=case), wrong


def test_a_list_of_a_few_people_is_a_table_and_a_tenant_is_no_tax_number(taken):
    case, _, _ = taken
    roles = {t["table"]: t["roles"] for t in inside_json("survey", cwd=case)["tables"]}
    assert roles["pessoal"]["text"] == "Nome" and roles["inquilinos"]["party"] == "Inquilino"
    assert roles["despesas"]["preparer"] == "Registado por"


def test_each_wrong_row_is_asked_for(taken):
    case, said, wrong = taken
    screens = {screen["name"]: screen for screen in said["screens"]}
    exceptions = asked_for(case)
    for name, expected in wrong.items():
        assert name in screens, (name, sorted(screens))
        told = exceptions.get(name, [])
        labels = " ".join(str(each["label"]) for each in told)
        assert len(told) == len(expected) and all(each in labels for each in expected), (name, labels)  # fmt: skip


def test_contracts_of_one_flat_that_overlap_are_told_with_the_days(taken):
    case, said, _ = taken
    (screen,) = [s for s in said["screens"] if s["name"] == "contratos of one Imóvel that overlap"]
    assert screen["flagged"] == 2
    inside("screen", screen["name"], cwd=case)
    first = next(e for e in inside_json("queue", cwd=case) if screen["name"] in str(e["marks"]))
    told = " ".join(inside("why", first["id"], cwd=case).stdout.split())
    assert "before the Fim of another of its Imóvel" in told
