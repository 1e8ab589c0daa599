"""Roles by the words of a header in several languages, and columns that are filled far down."""

from __future__ import annotations

import csv
import json
import re
import shlex
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.formats.called import folded, looks_like_code, role_of_master, worded
from sabueso.intake.formats.currencies import stated_currency
from sabueso.intake.formats.roles import guess_roles
from sabueso.intake.formats.serial import are_serial
from sabueso.population.table import Column

HEADERS = {
    "German": {
        "Zahlungsnr": ("text", "id"), "Belegdatum": ("date", "date"), "Lieferant": ("text", "party"),
        "Rechnungsnr": ("text", "document"), "Sachkonto": ("text", "account"), "Betrag": ("number", "amount"),
        "Erfasser": ("text", "preparer"), "Freigeber": ("text", "approver"), "Uhrzeit": ("time", "entered"),
        "Einzelpreis": ("number", "price"), "Menge": ("number", "quantity"), "Buchungstext": ("text", "text"),
    },
    "French": {
        "Num Pièce": ("text", "document"), "Jour": ("date", "date"), "Fournisseur": ("text", "party"),
        "Compte": ("text", "account"), "Montant": ("number", "amount"), "Utilisateur": ("text", "preparer"),
        "Validé par": ("text", "approver"), "Heure": ("time", "entered"), "Libellé": ("text", "text"),
        "Quantité": ("number", "quantity"), "Prix": ("number", "price"),
    },
    "French grants": {
        "N° dossier": ("text", "id"), "Date demande": ("date", "date"), "N° bénéficiaire": ("text", "party"),
        "Montant accordé": ("number", "amount"), "Instructeur": ("text", "preparer"), "Valideur": ("text", "approver"),
    },
    "ends of a transfer": {
        "txn_id": ("text", "id"), "date": ("date", "date"), "sender_account": ("text", "account"),
        "receiver_account": ("text", "party"), "amount": ("number", "amount"),
    },
    "extremos de una transferencia": {
        "Fecha": ("date", "date"), "Cuenta origen": ("text", "account"), "Cuenta destino": ("text", "party"),
        "Importe": ("number", "amount"),
    },
    "Italian": {
        "Registrazione": ("text", "id"), "Data": ("date", "date"), "Fornitore": ("text", "party"),
        "Conto": ("text", "account"), "Importo": ("number", "amount"), "Operatore": ("text", "preparer"),
        "Causale": ("text", "text"), "Prezzo": ("number", "price"),
    },
    "an Italian bill": {
        "Numero": ("text", "id"), "Data": ("date", "date"), "Codice cliente": ("text", "party"), "Imponibile": ("number", None),
        "IVA": ("number", None), "Totale": ("number", "amount"),
    },
    "Dutch": {
        "Factuurnummer": ("text", "document"), "Boekdatum": ("date", "date"), "Leverancier": ("text", "party"),
        "Bedrag": ("number", "amount"), "Gebruiker": ("text", "preparer"), "Aantal": ("number", "quantity"),
        "Omschrijving": ("text", "text"),
    },
    "Russian": {
        "Дата проводки": ("date", "date"), "Номер документа": ("text", "document"), "Счет": ("text", "account"),
        "Контрагент": ("text", "party"), "Содержание операции": ("text", "text"), "Сумма, руб.": ("number", "amount"),
        "Автор": ("text", "preparer"), "Количество": ("number", "quantity"), "Цена": ("number", "price"),
        "Валюта": ("text", "currency"),
    },
    "Polish": {
        "Data księgowania": ("date", "date"), "Nr dowodu": ("text", "document"), "Konto": ("text", "account"),
        "Kontrahent": ("text", "party"), "Opis": ("text", "text"), "Kwota": ("number", "amount"),
        "Wprowadził": ("text", "preparer"), "Ilość": ("number", "quantity"), "Cena": ("number", "price"),
    },
    "Turkish": {
        "Tarih": ("date", "date"), "Belge No": ("text", "document"), "Hesap": ("text", "account"),
        "Tedarikçi": ("text", "party"), "Açıklama": ("text", "text"), "Tutar": ("number", "amount"),
        "Kullanıcı": ("text", "preparer"),
    },
    "Greek": {
        "Ημερομηνία": ("date", "date"), "Παραστατικό": ("text", "document"), "Λογαριασμός": ("text", "account"),
        "Προμηθευτής": ("text", "party"), "Αιτιολογία": ("text", "text"), "Ποσό": ("number", "amount"),
        "Χρήστης": ("text", "preparer"),
    },
    "Chinese": {
        "记账日期": ("date", "date"), "凭证号": ("text", "document"), "会计科目": ("text", "account"),
        "供应商名称": ("text", "party"), "摘要": ("text", "text"), "发生金额": ("number", "amount"),
        "制单人": ("text", "preparer"), "审核人": ("text", "approver"), "数量": ("number", "quantity"),
    },
    "Korean": {
        "거래일자": ("date", "date"), "전표번호": ("text", "document"), "계정과목": ("text", "account"),
        "거래처명": ("text", "party"), "적요": ("text", "text"), "금액(원)": ("number", "amount"),
        "작성자": ("text", "preparer"),
    },
    "Arabic": {
        "التاريخ": ("date", "date"), "المستند": ("text", "document"), "الحساب": ("text", "account"),
        "المورد": ("text", "party"), "البيان": ("text", "text"), "المبلغ": ("number", "amount"),
    },
    "fields of a document": {
        "GJAHR": ("number", None), "BUZEI": ("number", None),
        "BUKRS": ("text", None), "BELNR": ("text", "document"), "BLART": ("text", None), "BUDAT": ("date", "date"), "CPUDT": ("date", "entered"), "USNAM": ("text", "preparer"),
        "BSCHL": ("text", None), "MWSKZ": ("text", None), "DMBTR": ("number", "amount"), "HKONT": ("text", "account"),
        "LIFNR": ("text", "party"), "KOSTL": ("text", None), "SGTXT": ("text", "text"), "WAERS": ("text", "currency"),
    },
    "fields with the name of their table": {
        "BKPF-BUDAT": ("date", "date"), "BSEG_WRBTR": ("number", "amount"), "BSEG_KUNNR": ("text", "party"),
    },
    "in one piece": {
        "TRANSDATE": ("date", "date"), "VOUCHER": ("text", "document"), "ACCOUNTNUM": ("text", "account"),
        "AMOUNTMST": ("number", "amount"), "CURRENCYCODE": ("text", "currency"), "TXT": ("text", "text"),
        "CREATEDBY": ("text", "preparer"), "CREATEDDATETIME": ("timestamp", "entered"),
    },
    "a ledger's detail": {
        "Journal_ID": ("text", "id"), "Amount": ("number", "amount"), "GL_Account_Number": ("text", "account"),
        "Entered_By": ("text", "preparer"), "Entered_Date": ("date", None), "Entered_Time": ("time", "entered"), "Effective_Date": ("date", "date"),
        "Approved_By": ("text", "approver"), "Approved_Date": ("date", None), "Reporting_Currency": ("text", "currency"),
    },
    "a journal of bills": {
        "INVOICEID": ("text", "document"), "INVOICEACCOUNT": ("text", "party"), "INVOICEDATE": ("date", "date"),
        "INVOICEAMOUNT": ("number", "amount"), "LEDGERVOUCHER": ("text", None), "GL Entry No": ("text", "id"),
    },
    "in small letters": {
        "invoiceid": ("text", "id"), "invoicenumber": ("text", "document"), "invoicedate": ("date", "date"),
        "suppliername": ("text", "party"), "glaccount": ("text", "account"), "totalamount": ("number", "amount"),
        "approvedby": ("text", "approver"), "duedate": ("date", None), "paymentmethod": ("text", None),
    },
    "contracts that are open to all": {
        "federal_action_obligation": ("number", "amount"),
        "potential_total_value_of_award": ("number", None), "action_date": ("date", "date"),
        "period_of_performance_start_date": ("date", None), "recipient_name": ("text", "party"),
    },
    "claims": {
        "policy_bind_date": ("date", None), "insured_sex": ("text", None),
        "incident_date": ("date", "date"), "total_claim_amount": ("number", "amount"), "months_as_customer": ("text", None),
        "customer_age": ("text", None),
    },
    "grants of a union": {
        "Year": ("number", None), "Reference of the Legal Commitment (LC)": ("text", "document"),
        "Name of beneficiary": ("text", "party"), "Beneficiary’s contracted amount (EUR)": ("number", "amount"),
    },
    "of whoever changed it": {
        "Posting Date": ("date", "date"), "Modified By": ("text", None), "Created By": ("text", "preparer"),
        "Amount": ("number", "amount"),
    },
}  # fmt: skip


@pytest.mark.parametrize("language", HEADERS)
def test_roles_in_several_languages(language: str) -> None:
    header = HEADERS[language]
    columns = [Column(name, kind) for name, (kind, _) in header.items()]  # type: ignore[arg-type]
    distinct = dict.fromkeys(header, (100, 100))
    found = guess_roles(columns, distinct)
    told = {column: role for role, column in found.items()}
    assert told == {name: role for name, (_, role) in header.items() if role}


def test_whose_pay_it_is_by_the_number_of_staff_and_whose_list_it_is() -> None:
    names = {"Staff no": "text", "Name": "text", "Period": "date", "Net": "number"}
    columns = [Column(name, kind) for name, kind in names.items()]  # type: ignore[arg-type]
    found = guess_roles(columns, dict.fromkeys(names, (60, 720)))
    assert found == {"party": "Staff no", "text": "Name", "date": "Period", "amount": "Net"}
    listed = guess_roles(columns[:2], dict.fromkeys(("Staff no", "Name"), (60, 60)))
    assert listed == {"id": "Staff no", "text": "Name"}
    served = [Column("Sold", "date"), Column("Staff", "text"), Column("Amount", "number")]
    assert "party" not in guess_roles(served, dict.fromkeys(("Sold", "Staff", "Amount"), (9, 90)))


def test_a_kind_is_no_number_and_names_that_come_again_are_whose_rows_they_are() -> None:
    names = {
        "Vch Type": "text",
        "Vch No.": "text",
        "Date": "date",
        "Name": "text",
        "Memo": "text",
        "Amount": "number",
    }
    columns = [Column(name, kind) for name, kind in names.items()]  # type: ignore[arg-type]
    distinct = dict.fromkeys(names, (90, 100)) | {"Name": (12, 100), "Vch Type": (3, 100)}
    assert guess_roles(columns, distinct) == {
        "document": "Vch No.", "date": "Date", "party": "Name", "text": "Memo", "amount": "Amount",
    }  # fmt: skip
    once = guess_roles(columns, distinct | {"Name": (95, 100)})
    assert "party" not in once
    # Of amounts without another date the time that they were made is theirs.
    made = [Column("id", "text"), Column("created_at", "timestamp"), Column("amount", "number")]
    assert (
        guess_roles(made, dict.fromkeys(("id", "created_at", "amount"), (9, 9)))["date"]
        == "created_at"
    )


def test_words_that_are_put_together_are_also_apart() -> None:
    assert worded("Rechnungsnr") == ["rechnungsnr", "rechnungs", "rechnung", "nr"]
    assert worded("Kundennummer 2") == ["kundennummer", "kunden", "kunde", "kund", "nummer", "2"]
    assert worded("Amount") == ["amount"]
    assert looks_like_code("CREATED_BY", ["1003", "1007"]) and not looks_like_code(
        "Reduced By", ["100", "7"]
    )
    assert looks_like_code("Bestellnr", ["7001", "7002"]) and not looks_like_code(
        "Betrag", ["1,50"]
    )


@given(st.text(max_size=30))
@pytest.mark.long
def test_the_words_of_a_name_begin_with_the_name_as_it_is(name: str) -> None:
    words = folded(name).split()
    found = worded(name)
    assert [word for word in found if word in words] == list(dict.fromkeys(words))


@pytest.mark.parametrize(
    ("table", "role"),
    [("kontenplan", "account"), ("chart_of_accounts", "account"), ("plan_de_cuentas", "account"),
     ("suppliers", "party"), ("lieferanten", "party"), ("proveedores", "party"), ("orders", None),
     ("roster", None)],
)  # fmt: skip
def test_what_the_keys_of_a_master_are(table: str, role: str | None) -> None:
    assert role_of_master(table) == role


ROWS = [
    [f"E{i:05}", f"{1 + i % 9},50", f"{i % 7}.{i % 10}00,25" if i > 2300 else "", ""]
    for i in range(2600)
]


def test_a_column_that_is_filled_far_down_is_read_as_what_it_holds(tmp_path: Path) -> None:
    """The first rows show nothing of it; those that fill it tell its type and its role."""
    head = ["key", "betrag", "menge", "never"]
    with (tmp_path / "a.csv").open("w", newline="") as file:
        csv.writer(file, delimiter=";").writerows([head, *ROWS])
    (tmp_path / "b.jsonl").write_text("".join(
        json.dumps({"key": r[0], "betrag": float(r[1].replace(",", ".")),
                    "menge": float(r[2].replace(".", "").replace(",", ".")) if r[2] else None}) + "\n"
        for r in ROWS
    ))  # fmt: skip
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    wanted = sum(float(r[2].replace(".", "").replace(",", ".")) for r in ROWS if r[2])
    for name in ("a.csv", "b.jsonl"):
        table = name[0]
        inside("intake", f"../{name}", "--as", table, cwd=case)
        columns = {c["column"]: c for c in inside_json("survey", table, cwd=case)["columns"]}
        assert columns["menge"]["type"] == "number" and columns["menge"]["role"] == "quantity"
        assert columns["menge"]["missing"] == 2301
        total = inside_json("dig", table, "--on", "menge", cwd=case)["total"]["value"]
        assert float(total) == pytest.approx(wanted)
    assert columns["key"]["rows"] == len(ROWS)


MASTERS = {
    "Emp ID": ("text", "party"), "Full Name": ("text", "text"), "Hire Date": ("date", "entered"),
    "Term Date": ("date", None), "Bank Acct": ("text", None),
}  # fmt: skip
REGISTER = {
    "Check No": ("text", "id"), "Check Date": ("date", "date"), "Vendor ID": ("text", "party"),
    "Vendor Name": ("text", None), "Memo": ("text", "text"), "Invoice Amount": ("number", "amount"),
    "Entered By": ("text", "preparer"), "Approved By": ("text", "approver"), "GL Account": ("text", "account"),
}  # fmt: skip
PORTUGUESE = {
    "Nº Lançamento": ("text", "id"), "Data": ("date", "date"), "Conta Débito": ("text", "account"),
    "Conta Crédito": ("text", None), "Valor (R$)": ("number", "amount"), "Histórico": ("text", "text"),
    "Lançado por": ("text", "preparer"), "Fornecedor": ("text", "party"), "Nota Fiscal": ("text", "document"),
}  # fmt: skip


# Whoever acts for the house is no party where there is one, and who saw it done vouches for it.
REFUNDS = {
    "refund_id": ("text", "id"), "issued_at": ("date", "date"), "customer_id": ("text", "party"), "value": ("number", "amount"),
    "agent": ("text", "preparer"),
}  # fmt: skip
POLICIES = {"Policy No": ("text", "id"), "Agent": ("text", "party"), "Premium": ("number", "amount"), "Start Date": ("date", "date")}  # fmt: skip
DEALS = {
    "deal_id": ("text", "id"), "traded_at": ("timestamp", "date"), "dealer": ("text", "preparer"), "counterparty": ("text", "party"),
    "notional": ("number", "amount"), "value_date": ("date", None), "confirmed_by": ("text", "approver"),
}  # fmt: skip
WARD = {
    "Transaktion": ("text", "id"), "Datum": ("date", "date"), "Antal": ("number", "quantity"), "Signatur": ("text", "preparer"),
    "Vittne": ("text", "approver"),
}  # fmt: skip


@pytest.mark.parametrize("header", [MASTERS, REGISTER, PORTUGUESE, REFUNDS, POLICIES, DEALS, WARD])
def test_whose_name_it_is_and_who_did_it(header: dict[str, tuple[str, str | None]]) -> None:
    columns = [Column(name, kind) for name, (kind, _) in header.items()]  # type: ignore[arg-type]
    told = {c: r for r, c in guess_roles(columns, dict.fromkeys(header, (90, 100))).items()}
    assert told == {name: role for name, (_, role) in header.items() if role is not None}


SIGNS = ["R$", "US$", "$", "€", "kr", "kr.", "zł", "Kč", "₹", "Rs.", "Fr.", "S/", "CHF"]


@given(
    sign=st.sampled_from(SIGNS), before=st.booleans(), blank=st.sampled_from(["", " ", "\u00a0", "\u202f"]),
    cents=st.lists(st.integers(-10**9, 10**9), min_size=1, max_size=12),
)  # fmt: skip
def test_amounts_beside_the_sign_of_a_currency(
    sign: str, before: bool, blank: str, cents: list[int]
) -> None:
    """Wherever it stands, and whatever stands between."""
    from decimal import Decimal

    import pyarrow as pa

    from sabueso.intake.formats.deciding import decide
    from sabueso.intake.formats.hints import Hints

    def told(value: int) -> str:
        digits = f"{abs(value) / 100:,.2f}".translate(str.maketrans(",.", ".,"))
        minus = "-" if value < 0 else ""
        return f"{minus}{sign}{blank}{digits}" if before else f"{minus}{digits}{blank}{sign}"

    texts = [told(value) for value in cents]
    found = decide(texts, Hints(measure=True))
    assert found.type == "number", texts
    assert found.read(pa.array(texts)).to_pylist() == [Decimal(c).scaleb(-2) for c in cents]


@pytest.mark.parametrize(
    ("name", "texts", "kind"),
    [
        ("Conta", ["3.1.01", "3.2.01", "1.1.01"], "text"),  # accounts
        (
            "Rubrik",
            ["3.1.01", "11.2.05", "1.12.01"],
            "text",
        ),  # no name tells: none is after the twelfth
        ("Rubrik", ["3.1.01", "28.2.05", "1.12.01"], "date"),
        ("Datum", ["3.1.01", "3.2.01", "1.1.01"], "date"),
        ("Konto", ["28.2.05", "3.2.01"], "text"),
        ("Konto", ["28.02.2005", "03.02.2001"], "date"),
    ],
)
def test_parts_of_two_digits_are_days_where_a_name_or_a_day_tells(
    name: str, texts: list[str], kind: str
) -> None:
    from sabueso.intake.formats.called import looks_like_date
    from sabueso.intake.formats.deciding import decide
    from sabueso.intake.formats.hints import Hints

    hints = Hints(code=looks_like_code(name, texts), dated=looks_like_date(name))
    assert decide(texts, hints).type == kind


@pytest.mark.parametrize(
    ("name", "form"),
    [
        ("Monat", "{m:02}.{y}"), ("Abrechnungsmonat", "{m:02}.{y}"), ("Period", "{y}.{m:02}"),
        ("mes", "{m:02}.{y}"), ("Posting Month", "{m:02}.{y}"), ("Period", "{y}{m:02}"),
        ("Year-Month", "{y}/{m:02}"), ("Month", "{m:02}-{y}"), ("Group", "{m:02}.{y}"),
    ],
)  # fmt: skip
def test_months_and_years_are_no_numbers(tmp_path, name, form):
    months = [(2023 + i // 12, 1 + i % 12) for i in range(18)]
    rows = [
        f"{name};Kto;Betrag",
        *(f"{form.format(y=y, m=m)};{k};{i},50" for i, (y, m) in enumerate(months) for k in (1, 2)),
    ]
    (tmp_path / "a.csv").write_text("\n".join(rows) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    types = {c["name"]: c["type"] for c in report["files"][0]["columns"]}
    assert (types[name], types["Betrag"]) == ("date", "number")
    assert report["roles"]["date"] == name
    asked = ("--per", "Kto", "--base", "2023-03", "--current", "2023-04")
    lines = inside_json("try", "periods", "t", *asked, cwd=tmp_path / "c")["groups"][0]["lines"]
    assert [(line["base"], line["current"]) for line in lines] == [("2.50", "3.50")] * 2


def test_amounts_with_four_decimals_stay_numbers(tmp_path):
    values = [f"{i}.20{i:02}" for i in range(10, 30)]
    (tmp_path / "a.csv").write_text("id,rate\n" + "".join(f"A{v},{v}\n" for v in values))
    inside("open", "c", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    assert [c["type"] for c in report["files"][0]["columns"]][:2] == ["text", "number"]


MORE_HEADERS = [
    ({"Inv #": "text", "Amt": "number"}, {"document": "Inv #", "amount": "Amt"}),
    ({"Check #": "text", "Paid (USD)": "number"}, {"amount": "Paid (USD)"}),
    ({"PersNr": "text", "Bruttolohn CHF": "number", "Abzug": "number"}, {"amount": "Bruttolohn CHF"}),
    ({"F. Operación": "date", "F. Valor": "date", "Importe": "number"}, {"date": "F. Operación", "amount": "Importe"}),
    (
        {"Submitted": "date", "Approved On": "date", "Amount USD": "number"},
        {"date": "Submitted", "amount": "Amount USD"},
    ),
    ({"A EUR": "number", "B EUR": "number"}, {}),  # two of them: neither is guessed
    ({"CustomerID": "text", "GLAccount": "text", "VATAmount": "number", "NetAmount": "number"},
     {"party": "CustomerID", "account": "GLAccount", "amount": "NetAmount"}),
    ({"Total OT Paid": "number", "Regular Gross Paid": "number"}, {"amount": "Regular Gross Paid"}),
    ({"freight_value": "number", "payment_value": "number"}, {"amount": "payment_value"}),
    ({"Freight": "number", "Freight Charge": "number"}, {"amount": "Freight Charge"}),
    ({"Land Value": "number", "Assessed Value": "number"}, {"amount": "Assessed Value"}),
    ({"average_submitted_chrg_amt": "number", "Contributor Name": "text"}, {"party": "Contributor Name"}),
    ({"loan_amnt": "number", "emp_title": "text"}, {"amount": "loan_amnt"}),
    ({"Balance USD": "number", "Units": "number"}, {"quantity": "Units"}),
    ({"Due Date": "date", "Invoice Date": "date", "Total Due": "number"}, {"date": "Invoice Date", "amount": "Total Due"}),
    ({"Due Dt": "date", "Paid Dt": "date", "Paid Amt": "number"}, {"date": "Paid Dt", "amount": "Paid Amt"}),
    ({"Fee": "number", "USD Value": "number"}, {"amount": "USD Value"}),
    ({"Who": "text", "Fee": "number"}, {"amount": "Fee"}),
    (
        {"Posting Date": "date", "Doc Date": "date", "G/L": "text", "Amount in doc. curr.": "number"},
        {"date": "Posting Date", "account": "G/L", "amount": "Amount in doc. curr."},
    ),
    ({"Mat. Doc.": "text", "Doc. Currency": "text", "Amount": "number"}, {"document": "Mat. Doc.", "amount": "Amount"}),
    ({"Card Member": "text", "Merchant": "text"}, {"preparer": "Card Member", "party": "Merchant"}),
    (
        {"Movement Debit": "number", "Movement Credit": "number", "Balance Debit": "number", "Balance Credit": "number"},
        {"debit": "Movement Debit", "credit": "Movement Credit"},
    ),
    (
        {"Opening Debit": "number", "Opening Credit": "number", "Period Debit": "number", "Period Credit": "number"},
        {"debit": "Period Debit", "credit": "Period Credit"},
    ),
    ({"2023 Debit": "number", "2023 Credit": "number", "2024 Debit": "number", "2024 Credit": "number"},
     {"debit": None, "credit": None}),
    (
        {"NOME ÓRGÃO": "text", "CPF PORTADOR": "text", "NOME PORTADOR": "text", "CNPJ OU CPF FAVORECIDO": "text",
         "NOME FAVORECIDO": "text", "VALOR TRANSAÇÃO": "number"},
        {"preparer": "CPF PORTADOR", "party": "CNPJ OU CPF FAVORECIDO", "text": "NOME FAVORECIDO", "amount": "VALOR TRANSAÇÃO"},
    ),
    (
        {"Órgano": "text", "Objeto": "text", "NIF adjudicatario": "text", "Adjudicatario": "text", "Importe sin IVA": "number"},
        {"party": "NIF adjudicatario", "text": "Objeto", "amount": "Importe sin IVA"},
    ),
    ({"Razón Social": "text", "Importe": "number"}, {"party": "Razón Social", "amount": "Importe"}),
    ({"Raison": "text", "Montant": "number"}, {"party": None, "amount": "Montant"}),
    ({"Bank A/C": "text", "A/C No": "text", "Amount": "number"}, {"account": "A/C No", "amount": "Amount"}),
]  # fmt: skip


@pytest.mark.parametrize(("columns", "roles"), MORE_HEADERS)
def test_a_currency_or_two_words_tell_a_role(columns, roles):
    found = guess_roles(
        [Column(name, kind) for name, kind in columns.items()],
        dict.fromkeys(columns, (5, 10)),
    )
    assert {role: found.get(role) for role in {"amount", *roles}} == {"amount": None, **roles}


def test_the_name_of_one_of_few_departments_is_no_text_of_a_row():
    names = {"Department Name": "text", "Date": "date", "Amount": "number"}
    columns = [Column(name, kind) for name, kind in names.items()]
    distinct = dict.fromkeys(names, (300, 300))
    assert "text" not in guess_roles(columns, distinct | {"Department Name": (6, 300)})
    assert (
        guess_roles(columns, distinct | {"Department Name": (200, 300)})["text"]
        == "Department Name"
    )


def test_what_rows_come_to_is_told_where_nothing_but_quantity_and_price_stands(tmp_path):
    """And what is said of it, done, gives the amounts."""
    lines = [f"C{i // 3},{1 + i % 5},{2 + i % 7}.55,178{i % 9}0.0,{i % 4}" for i in range(60)]
    (tmp_path / "x.csv").write_text(
        "\n".join(["InvoiceNo,Quantity,UnitPrice,CustomerID,Shop", *lines])
    )
    inside("open", ".", "--currency", "GBP", cwd=tmp_path)
    report = inside_json("intake", "x.csv", "--as", "x", cwd=tmp_path)
    assert report["roles"].get("party") == "CustomerID" and "amount" not in report["roles"]
    (note,) = [n for n in map(str, report["files"][0]["notes"]) if "called as amounts" in n]
    assert "what each row comes to is Quantity * UnitPrice: give it a name under columns" in note
    plan = tmp_path / "case.toml"
    text = plan.read_text().replace("roles = {", 'roles = {amount = "comes_to", ')
    plan.write_text(f'{text}\n[tables.x.columns]\ncomes_to = "Quantity * UnitPrice"\n')
    total = sum(Decimal(f"{(1 + i % 5) * (2 + i % 7 + Decimal('0.55'))}") for i in range(60))
    assert f"amount {total:,} GBP = used" in inside("dig", "x", "--by", "Shop", cwd=tmp_path).stdout


def test_what_is_said_to_come_next_runs(tmp_path):
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    tables = {
        "dated": "Datum,Name\n2024-01-02,a\n2024-02-03,b\n",
        "grouped": "Konto Nr,Betrag\n4000,5.00\n4100,6.00\n",
        "bare": "x,Betrag\na,5.00\nb,6.00\n",
    }
    for name, text in tables.items():
        (tmp_path / f"{name}.csv").write_text(text)
        said = inside("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "c").stdout
        command = re.search(r"next: sabueso (dig .+)", said)
        assert command is not None
        inside(*shlex.split(command[1]), cwd=tmp_path / "c")


SIGNS = {"£": "GBP", "€": "EUR", "₹": "INR", "zł": "PLN", "US$": "USD", "CHF": "CHF", "$": "$"}


@pytest.mark.parametrize(
    "form", ["Amount ({})", "Amount({})", "Importe [{}]", "Betrag {}", "Amount, {}"]
)
@pytest.mark.parametrize("sign", SIGNS)
def test_a_currency_in_a_header_is_stated(form, sign):
    name = form.format(sign)
    expected = None if sign == "CHF" and "," in form else SIGNS[sign]
    assert stated_currency(name, {}, "EUR") == expected


def test_amounts_whose_header_has_a_currency_state_it(tmp_path):
    (tmp_path / "a.csv").write_text(
        "Date,Supplier,Amount (£)\n2024-01-02,A,5.00\n2024-01-03,B,6.00\n"
    )
    inside("open", "c", cwd=tmp_path)
    said = inside("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c").stdout
    assert "11.00 GBP, the same" in said and "state no currency" not in said


@pytest.mark.parametrize(
    "name", ["amount_cents", "Amount (pence)", "valorCentavos", "amount_minor"]
)
def test_hundredths_are_no_amounts_until_somebody_makes_them(tmp_path, name):
    rows = "".join(f"t{i},2024-01-02,{i * 37 + 1}\n" for i in range(40))
    (tmp_path / "a.csv").write_text(f"id,day,{name}\n{rows}")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    case = tmp_path / "c"
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=case)
    (told,) = (a for a in report["assumed"] if "hundredths" in a["text"])
    assert "amount" not in report["roles"] and told["key"].endswith("columns")
    made = told["text"].partition("made by ")[2]
    plan = case / "case.toml"
    text = plan.read_text().replace("[tables.t]\n", f"[tables.t]\ncolumns = {{money = '{made}'}}\n")
    plan.write_text(text.replace("roles = {", 'roles = {amount = "money", '))
    found = inside_json("dig", "t", cwd=case)
    assert (
        found["population"]["total"] == f"{Decimal(sum(i * 37 + 1 for i in range(40))).scaleb(-2)}"
    )


def test_what_is_below_nothing_with_decimals_is_no_code():
    assert not looks_like_code("Acc. balance moved", ["-12.50", "-3.00", "4.10"])
    assert not looks_like_code("Acc. depreciation", ["12.50", "3.00", "4.10"])
    assert looks_like_code("Acc.", ["12.50", "3.00", "4.10"]) and looks_like_code(
        "Account", ["100-20", "100-30"]
    )


def test_of_two_pairs_of_amounts_and_currencies_the_one_in_one_currency_is_the_tables(tmp_path):
    """Whichever stands first of an amount and its currency; and none where both are in several."""
    pairs = [("250.10", "USD", "230.00", "EUR"), ("90.00", "GBP", "105.30", "EUR")] * 20
    inside("open", "c", cwd=tmp_path)
    for name, header, order in (
        ("after", "Amount,Currency,Amount,Currency", (0, 1, 2, 3)),
        ("before", "Currency,Amount,Currency,Amount", (1, 0, 3, 2)),
    ):
        lines = [
            f"D{i},2024-01-{1 + i % 28:02d},{','.join(pair[k] for k in order)}"
            for i, pair in enumerate(pairs)
        ]
        (tmp_path / f"{name}.csv").write_text("\n".join([f"Doc,Date,{header}", *lines]) + "\n")
        report = inside_json("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "c")
        assert (
            report["roles"]["amount"] == "Amount 2" and report["roles"]["currency"] == "Currency 2"
        )
        assert Decimal(report["total"]["amount"]) == sum(Decimal(p[2]) for p in pairs)
    mixed = [f"D{i},2024-01-05,{a},{b},{a},{b}" for i, (a, b, _, _) in enumerate(pairs)]
    (tmp_path / "x.csv").write_text("\n".join(["Doc,Date,Amount,Currency,Amount,Currency", *mixed]))
    said = inside("intake", "../x.csv", "--as", "x", cwd=tmp_path / "c", code=2).stderr
    assert "do not add up" in said


@pytest.mark.parametrize(
    ("header", "amount", "currency"),
    [
        ("Amount Received,Receiving Currency,Amount Paid,Payment Currency", 0, 1),
        ("Paid,Received,Payment Currency,Receiving Currency", 1, 3),
        ("Payment Currency,Receiving Currency,Amount Received,Amount Paid", 2, 1),
        ("Currency From,Amount From,Currency To,Amount To", 3, 2),
        ("Doc. Currency,Amount in Doc. Curr.,Local Currency,Amount in LC", 3, 2),
    ],
)
def test_amounts_have_their_own_currency_and_not_that_of_others(tmp_path, header, amount, currency):
    """Of two amounts with a currency each, of which one alone is in one: it is told by its name or its place."""
    names = header.split(",")
    rows = []
    for i in range(40):
        row = ["7.50" if "urrency" not in name else ("US Dollar", "Swiss Franc")[i % 2] for name in names]  # fmt: skip
        row[amount], row[currency] = f"{i}.25", "Euro"
        rows.append(f"D{i},2024-01-{1 + i % 28:02d},{','.join(row)}")
    (tmp_path / "x.csv").write_text("\n".join([f"Id,Date,{header}", *rows]))
    inside("open", ".", cwd=tmp_path)
    done = inside("intake", "x.csv", "--as", "x", "--format", "json", cwd=tmp_path, code=(0, 2))
    if not done.stdout:
        # Amounts of several currencies are asked about, in what the plan can take.
        assert 'rates = { "Swiss Franc" = "…", "US Dollar" = "…" }' in done.stderr
        assert f"column {names[currency]!r}" not in done.stderr
        return
    report = json.loads(done.stdout)
    roles, notes = report["roles"], str(report["files"][0]["notes"])
    assert (roles["amount"], roles["currency"]) == (names[amount], names[currency])
    assert f"the currencies of the table are those of {names[currency]}, and not" in notes


def test_numbers_that_a_spreadsheet_cut_short_are_told(tmp_path):
    accounts = ["6.22E+11", "4,01E+15", "912345678", "ES12E+1"] * 5
    lines = [f"P{i};2024-01-{1 + i:02d};{a};{10 + i}.50" for i, a in enumerate(accounts)]
    (tmp_path / "x.csv").write_text("\n".join(["id;date;account number;amount", *lines]) + "\n")
    inside("open", ".", cwd=tmp_path)
    said = " ".join(inside("intake", "x.csv", "--as", "x", cwd=tmp_path).stdout.split())
    assert "account number: on 10 of the first 20 lines stands a number with an exponent" in said
    assert "such as '6.22E+11'" in said


def test_what_is_told_of_somebody_is_not_who_it_is() -> None:
    """Names beside a day and an amount, each the only one of texts, and the roles that they have."""
    told = {
        None: "Account Type,Account Manager,Account Status,Vendor Type,Vendor City,Vendor Country,"
        "Customer Segment,Employee Grade,Invoice Status,User Role,Paid to Date,Reason Code,Posting Period",
        "party": "Vendor,Vendor No,Vendor Tax ID,Client Code,Paid To,Pay To,Bill To,Sender,Remitter,Bidder,Cust",
        "account": "Account,Account Name,GL Account",
        "text": "Remarks,Comments,Purpose,Approver Comments",
        "preparer": "Created By,User,Counted By,Loan Officer",
        "approver": "Approver,Level 1 Approver,Approved by Manager",
        "currency": "Account Currency",
    }  # fmt: skip
    for role, names in told.items():
        for name in names.split(","):
            kinds = {"Date": "date", "Amount": "number", name: "text"}
            columns = [
                Column(n, k, 18, 2) if k == "number" else Column(n, k) for n, k in kinds.items()
            ]
            counts = dict.fromkeys(kinds, (60, 200))
            roles = {column: r for r, column in guess_roles(columns, counts).items()}
            assert roles.get(name) == role, name


def test_what_is_counted_or_summed_up_is_no_money_of_a_row() -> None:
    """Names of numbers with decimals beside a day and a party, each the only one."""
    told = {
        None: "Overtime Hours,Horas extra,Net Area,Total Score,Running Total,Cumulative Amount,YTD Amount,Credit Limit,Sales Volume,Balance",
        "quantity": "Total Hours,Gross Weight,Net Weight kg,Total Units,Total Qty,Total km",
        "amount": "Amount Due,Payment,Receipt,Instalment,Net Pay,Total Cost,Rent,Notional,Outstanding,Claimed,Bid Price,Fee",
        "price": "Cost per Unit,Unit Price,Hourly Rate,List Price,Importe por ha,Betrag je Stunde,Montant par nuit,Amount/kg,FeePerPerson",
    }
    for role, names in told.items():
        for name in names.split(","):
            columns = [Column("Date", "date"), Column("Who", "text"), Column(name, "number", 18, 2)]
            found = guess_roles(columns, {"Date": (90, 200), "Who": (19, 200), name: (190, 200)})
            assert {column: r for r, column in found.items()}.get(name) == role, name


@pytest.mark.parametrize(
    ("columns", "roles"),
    [
        # A fee is of something: where nothing says which column that is, neither is taken.
        ({"Asset": "text", "Change": 8, "Fee": 8, "Balance": 8}, {}),
        ({"Matter": "text", "Hours": 1, "Rate": 2, "Fee": 2, "VAT": 2}, {"amount": "Fee", "price": "Rate", "quantity": "Hours"}),
        # Whose row it is tells no row apart, however often it comes.
        ({"Emp ID": "text", "Employee": "text", "Net Pay": 2}, {"party": "Emp ID", "text": "Employee", "amount": "Net Pay"}),
        ({"Supplier No": "text", "Payee": "text", "Paid": 2}, {"party": "Supplier No", "text": "Payee", "amount": "Paid"}),
        ({"Customer No": "text", "Supplier": "text", "Paid": 2}, {"party": "Supplier", "amount": "Paid"}),
        ({"Fornecedor": "text", "CNPJ": "text", "Valor": 2}, {"party": "CNPJ", "text": "Fornecedor", "amount": "Valor"}),
        ({"Cliente": "text", "CNPJ Fornecedor": "text", "Valor": 2}, {"party": "Cliente", "amount": "Valor"}),
        # Whose account it is with a bank is told by the branch before it.
        ({"Agência": "text", "Conta": "text", "Valor": 2}, {"amount": "Valor"}),
        ({"Empresa": "text", "Conta": "text", "Valor": 2}, {"account": "Conta", "amount": "Valor"}),
        # What somebody has besides a number of their own tells no row.
        ({"Routing #": "text", "Hired On": "date"}, {"entered": "Hired On"}),
        ({"Loan No": "text", "Amount": 0, "Received By": "text"}, {"id": "Loan No", "amount": "Amount", "preparer": "Received By"}),
        ({"Card Number": "text", "Gross": 2}, {"amount": "Gross"}),
        ({"Entry No": "text", "Gross": 2}, {"id": "Entry No", "amount": "Gross"}),
        # A tax is of something too; a quantity that came in is no money.
        ({"Driver": "text", "VAT Amount": 2, "Gross Value": 2}, {"party": "Driver", "amount": "Gross Value"}),
        ({"Net of VAT": 2, "VAT": 2}, {"amount": "Net of VAT"}),
        ({"Qty Sent": 0, "Qty Received": 0}, {"quantity": "Qty Sent"}),
        ({"Meter": "text", "Tariff": 4, "Bill": 2}, {"amount": "Bill"}),
        # A commission is of what stands beside it, or is itself the amount.
        ({"Qty": 0, "Price": 4, "Commission": 2, "Net Amount": 2}, {"quantity": "Qty", "price": "Price", "amount": "Net Amount"}),
        ({"Rep": "text", "Deal Value": 2, "Commission": 2}, {"amount": "Commission"}),
        ({"Borrower": "text", "Interest Rate": 2, "Payment": 2}, {"party": "Borrower", "amount": "Payment"}),
        ({"Customer PO": "text", "Invoice Total": 2}, {"amount": "Invoice Total"}),
        ({"Amount In": 2, "Amount Out": 2}, {"debit": "Amount Out", "credit": "Amount In"}),
        ({"Requested": 2, "Disbursed": 2}, {"amount": "Disbursed"}),
        # What is bought in one has no price of each.
        ({"Bidder": "text", "Bid Price": 2}, {"party": "Bidder", "amount": "Bid Price"}),
        ({"Bidder": "text", "Bid Price": 2, "Qty": 0}, {"party": "Bidder", "price": "Bid Price", "quantity": "Qty"}),
    ],
)  # fmt: skip
def test_what_is_charged_counted_or_bid(columns, roles):
    held = [Column(n, k) if isinstance(k, str) else Column(n, "number", k) for n, k in columns.items()]  # fmt: skip
    found = guess_roles([Column("Day", "date"), *held], dict.fromkeys(["Day", *columns], (60, 200)))
    assert found == {"date": "Day"} | roles


def test_what_somebody_pays_is_no_code():
    """Cents, in amounts large and small, beside the word for whoever pays."""
    paid = [f"{7 * i * i + 3}.{i % 90:02}" for i in range(30)]
    for name in ("Patient Resp", "Employee Contribution", "Customer Share", "voucher"):
        assert not looks_like_code(name, paid)
        assert looks_like_code(name, [str(1000 + i) for i in range(30)])
        assert looks_like_code(name, [f"10{i:02}.10" for i in range(30)])
    assert looks_like_code("Patient No", paid) and looks_like_code("Customer", paid)


def test_amounts_say_that_they_are_money(tmp_path):
    """By the sign beside their digits, where no name does; coins are no money to be added up with another."""
    (tmp_path / "gifts.csv").write_text(
        "Ref,Received,Gift\n" + "".join(f"D{i},Mar 2024,£{i}.50\n" for i in range(9))
    )
    coins = "".join(f"T{i},2024-01-0{1 + i % 9},{'BTC' if i % 2 else 'usdt'},0.1{i:07}\n" for i in range(30))  # fmt: skip
    (tmp_path / "coins.csv").write_text("Ref,Date,Asset,Amount\n" + coins)
    inside("open", "c", cwd=tmp_path)
    gifts = inside_json("intake", "../gifts.csv", "--as", "gifts", cwd=tmp_path / "c")
    assert gifts["roles"] | {"amount": "Gift", "date": "Received"} == gifts["roles"]
    day = {r["Received"] for r in inside_json("dig", "gifts", "--rows", cwd=tmp_path / "c")["rows"]}
    assert day == {"2024-03-01"}
    said = inside("intake", "../coins.csv", "--as", "coins", cwd=tmp_path / "c", code=2).stderr
    assert "holds BTC and usdt (coins.csv), which do not add up" in said


@pytest.mark.parametrize(
    ("columns", "roles"),
    [
        ({"PO #": "t", "Qty": "q", "Unit Price": "m", "Ext Price": "m"}, {"price": "Unit Price", "amount": "Ext Price"}),
        ({"Menge": "q", "Einzelpreis": "m", "Gesamtpreis": "m"}, {"price": "Einzelpreis", "amount": "Gesamtpreis"}),
        ({"Qty": "q", "Price": "m", "Extension": "m"}, {"price": "Price", "amount": "Extension"}),
        ({"Phone": "t", "Extension": "q"}, {"amount": None}),
        ({"Qty": "q", "List Price": "m", "Net Price": "m"}, {"price": "Net Price", "amount": None}),
        ({"Date": "d", "Net Price": "m"}, {"amount": "Net Price"}),
        ({"Fournisseur": "t", "Code fournisseur": "t", "Montant": "m"}, {"party": "Code fournisseur", "text": "Fournisseur"}),
        ({"Vendor": "t", "Vendor VAT No": "t", "Amount": "m"}, {"party": "Vendor"}),
        ({"Vendor": "t", "Vendor Invoice No": "t", "Amount": "m"}, {"party": "Vendor", "document": "Vendor Invoice No"}),
        ({"Locataire": "t", "Date": "d", "Total": "m"}, {"party": "Locataire"}),
        ({"Facture": "t", "HT": "m", "TVA": "m", "TTC": "m"}, {"amount": "HT"}),
        ({"Facture": "t", "Montant TTC": "m", "HT": "m", "TVA": "m"}, {"amount": "Montant TTC"}),
        ({"Grant": "t", "Award": "q"}, {"amount": "Award"}),
        ({"Tipo": "t", "Importe por ha": "m", "Importe": "m"}, {"price": "Importe por ha", "amount": "Importe"}),
        ({"Paid per Diem": "m", "Total": "m"}, {"amount": "Total"}),
        ({"Date": "d", "Amount per Line": "m"}, {"amount": "Amount per Line"}),
    ],
)  # fmt: skip
def test_what_all_of_a_row_comes_to_and_who_it_is_of(columns, roles):
    kinds = {"t": ("text", 0), "q": ("number", 0), "m": ("number", 2), "d": ("date", 0)}
    found = guess_roles(
        [Column(name, *kinds[kind]) for name, kind in columns.items()],
        dict.fromkeys(columns, (40, 400)),
    )
    assert {role: found.get(role) for role in roles} == roles


def test_what_each_party_has_for_itself_is_no_account_of_the_ledger(tmp_path):
    """A wage's bank account is each employee's own, a ledger's account many suppliers'; sixteen digits are a text."""
    inside("open", "case", cwd=tmp_path)
    for name, own in (
        ("wages", lambda i: f"{10**9 + i * 7919}"),
        ("bills", lambda i: f"62{i % 9}00"),
    ):
        rows = [
            f"E{i % 60:03},2024-03-{1 + i % 28:02},{i + 0.25:.2f},{own(i % 60)},{10**15 + i * 104_729}"
            for i in range(240)
        ]
        (tmp_path / f"{name}.csv").write_text(
            "\n".join(["Emp ID,Pay Date,Gross,Acct No,loyalty", *rows]) + "\n", encoding="utf-8"
        )
        report = inside_json("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "case")
        assert report["roles"].get("account") == ({"bills": "Acct No"}.get(name))
        types = {c["name"]: c["type"] for c in report["files"][0]["columns"]}
        assert types["loyalty"] == "text"


@pytest.mark.parametrize(
    ("header", "roles"),
    [
        ("Talao,Data,Socio,Peso bruto,Tara,Peso liquido,Peso pago", {"quantity": "Peso bruto", "party": "Socio"}),
        ("Liquidacao,Data,Socio,Azeite kg,Preco kg,Adiantamentos,A pagar", {"amount": "A pagar", "price": "Preco kg"}),
        ("Rechnung,Rechnungsdatum,Leistung,Einbehalt,Auszahlung", {"amount": "Auszahlung"}),
        ("Biglietto,Ingresso,Importo,Cassiere", {"preparer": "Cassiere", "amount": "Importo"}),
    ],
)  # fmt: skip
def test_weights_are_weighed_and_what_is_paid_out_is_the_amount(tmp_path, header, roles):
    names = header.split(",")
    text = {"Socio", "Cassiere", "Rechnung"}
    rows = [",".join(f"2024-03-{1 + n % 28:02}" if name in ("Data", "Rechnungsdatum", "Ingresso") else f"X{n}" if name in text else f"{1000 + 37 * n + k}.50" if name not in ("Talao", "Biglietto") else str(n + 1) for k, name in enumerate(names)) for n in range(40)]  # fmt: skip
    inside("open", "case", cwd=tmp_path)
    (tmp_path / "t.csv").write_text("\n".join([header, *rows]) + "\n", encoding="utf-8")
    found = inside_json("intake", "../t.csv", "--as", "t", cwd=tmp_path / "case")["roles"]
    assert roles.items() <= found.items() and found.get("id") != "Peso pago"


@pytest.mark.parametrize(
    ("name", "numbers", "serial"),
    [
        ("Boletin", range(240_001, 240_041), True),
        ("Beleg", [*range(1_200, 1_240), 1_250], True),
        ("Beleg", [*range(1_200, 1_240), 9_250], True),
        ("Beleg", [*range(1_200, 1_240), 1_239], False),  # twice
        ("Beleg", range(1_200, 1_320, 3), False),  # with room for more than as many again
        ("Beleg", range(240_001, 240_011), False),  # few
        ("Age", range(40, 90), False),
        ("Jahrgang", range(1960, 2010), False),
        ("Population", range(1_000, 40_000, 700), False),
        ("Amount", range(5_000, 5_040), False),
        ("Talao", range(1, 121), True),  # counted from the first on
        ("Talao", range(1, 61), False),
        ("Talao", [*range(1, 60), *range(1, 62)], False),
        ("Hours", range(1, 121), False),
    ],
)
def test_numbers_given_one_after_another_tell_rows_apart(name, numbers, serial):
    texts = [str(number) for number in numbers]
    assert are_serial(name, texts, len(texts)) is serial
    assert not are_serial(name, texts, len(texts) + 1)  # a blank one


@pytest.mark.parametrize(
    ("name", "amount"), [("Total Discharges", None), ("Total Paid", "Total Paid"), ("Amount", "Amount")]
)  # fmt: skip
def test_a_total_of_what_is_counted_is_no_amount_beside_money(tmp_path, name, amount):
    """Where others state a currency: how many left a hospital, beside what was paid for each."""
    lines = [f"H{n % 40},{11 + 7 * n % 180},${900 + n}.25" for n in range(60)]
    (tmp_path / "x.csv").write_text("\n".join([f"Provider,{name},Average Payments", *lines]) + "\n")
    inside("open", "c", cwd=tmp_path)
    report = inside_json("intake", "../x.csv", "--as", "x", cwd=tmp_path / "c")
    assert report["roles"].get("amount") == amount
