"""Build the sample case: inbox, case, programme, run, reviews, paper."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.case.folder import Case
from sabueso.case.noting import record_note
from sabueso.case.plan_writing import (
    NewScreen,
    write_facts,
    write_links,
    write_rules,
    write_screens,
)
from sabueso.case.programme import run_programme
from sabueso.case.queue import AuditException, queue
from sabueso.case.recording import Run
from sabueso.case.reviews import Disposition, record_disposition, record_sign_off
from sabueso.case.sources import source_files
from sabueso.case.taken import TakeReport, Taking
from sabueso.case.taking import take_in
from sabueso.demo.inbox import Answer, write_inbox
from sabueso.demo.records import INSTALMENTS, PRINCIPAL, RATE
from sabueso.demo.world import APPROVAL_LIMIT, TENDER_AWARDED
from sabueso.screens.subject import Class

LINKS = {
    "payments": {"proveedor": "suppliers.id", "cuenta": "accounts.cuenta"},
    "journal": {"cuenta": "accounts.cuenta"},
    "bank": {"end to end": "payments.pago"},
    "payroll": {"empleado": "staff.empleado"},
    "invoices": {"pedido": "orders.pedido", "proveedor": "suppliers.id"},
    "receipts": {"pedido": "orders.pedido"},
    "roster": {"empleado": "staff.empleado"},
}

# Payments are numbered without a gap: what is missing are the rows that could not be read.
RULES: dict[str, tuple[str, list[Values]]] = {
    "payments": (
        "PAY",
        [
            {"rule": "sequence", "on": "pago"},
            {"rule": "required", "on": ["proveedor", "cuenta", "usuario"]},
            {"rule": "exists", "on": "proveedor", "among": "suppliers.id"},
        ],
    ),
    "journal": ("JOU", [{"rule": "balances", "per": ["asiento"]}]),
    "payroll": ("PAYR", [{"rule": "exists", "on": "empleado", "among": "staff.empleado"}]),
}

# What documents tell beside the books: the order of approval, the award of the yard's tender, the loan.
FACTS: Values = {
    "approval": APPROVAL_LIMIT,
    "award": TENDER_AWARDED,
    "loan": {"principal": int(PRINCIPAL), "rate": float(RATE), "periods": INSTALMENTS},
}

INTAKES = (
    ("suppliers", ("inbox/suppliers.csv",)),
    ("staff", ("inbox/staff.csv",)),
    ("accounts", ("inbox/accounts.csv",)),
    ("payments", ("inbox/payments",)),
    ("journal", ("inbox/journal-2024.csv", "inbox/journal-2025.csv")),
    ("payroll", ("inbox/payroll.xlsx",)),
    ("bank", ("inbox/bank-2025-11.xml",)),
    ("roster", ("inbox/roster.csv",)),
    ("traffic", ("inbox/traffic.csv",)),
    ("loan", ("inbox/loan-garceta.csv",)),
    ("budget", ("inbox/budget.csv",)),
    ("orders", ("inbox/orders.csv",)),
    ("receipts", ("inbox/receipts.csv",)),
    ("invoices", ("inbox/invoices.csv",)),
)

# name, test, table, purpose, settings
PROGRAMME: tuple[tuple[str, str, str, str, Values], ...] = (
    (
        "first digit of payments",
        "digits",
        "payments",
        "Amounts that people make up do not begin as amounts that arise from trade. Harbour dues are "
        "left out: they follow a price list.",
        {"digits": "first", "where": "importe > 0 and cuenta <> '62910'", "by_whom": "usuario"},
    ),
    (
        "first-two digits of payments",
        "digits",
        "payments",
        "Payments split to stay under the approval limit of 5,000 pile up just below it.",
        {"digits": "first-two", "where": "importe > 0 and cuenta <> '62910'", "by_whom": "usuario"},
    ),
    (
        "payments unlike the supplier's others",
        "zscore",
        "payments",
        "A slip of the decimal mark, or an invoice out of proportion, stands far from what the supplier "
        "usually bills.",
        {
            "by": ["proveedor"],
            "method": "modified",
            "scale": "log",
            "limit": "4.5",
            "side": "high",
            "min_group": 12,
            "where": "importe > 0",
        },
    ),
    (
        "payments beyond the account's fences",
        "fences",
        "payments",
        "The largest payments of each account, by its own quartiles.",
        {"by": ["cuenta"], "scale": "log", "outer": "2", "beyond": "outer", "side": "high",
         "where": "importe > 0"},
    ),
    (
        "pay unlike that of the grade",
        "distance",
        "payroll",
        "Sea allowances that do not fit the base pay of their grade.",
        {
            "measures": ["avg(salario_base)", "avg(plus_mar)"],
            "per": ["empleado"],
            "by": ["categoria"],
            "where": "categoria <> 'tierra'",
        },
    ),
    (
        "account totals against last year",
        "periods",
        "journal",
        "Accounts that moved by more than trade explains; fuel is split into litres and price.",
        {
            "per": ["cuenta"],
            "base": "2024",
            "current": "2025",
            "amount_limit": "25000",
            "percent_limit": "20",
            "where": "cuenta like '6%' or cuenta like '7%'",
        },
    ),
    (
        "expense against budget",
        "periods",
        "journal",
        "Expense that the budget of 2025 did not foresee.",
        {
            "per": ["cuenta"],
            "against": "budget",
            "current": "2025",
            "amount_limit": "40000",
            "percent_limit": "20",
            "where": "cuenta like '62%'",
        },
    ),
    (
        "fuel price against last year",
        "periods",
        "journal",
        "Litres at another price, however many were bunkered.",
        {
            "per": ["cuenta"], "base": "2024", "current": "2025", "quantity": "unidades",
            "flag_by": "rate", "where": "cuenta like '628_0' and unidades > 0",
        },
    ),
    (
        "payments moved to another account",
        "periods",
        "payments",
        "What a supplier was paid on one account, and is paid on a new one since: a cost that is to be seen "
        "less.",
        {
            "per": ["proveedor", "cuenta"], "base": "2024", "current": "2025", "flag_by": "moved",
            "percent_limit": "20",
        },
    ),
    (
        "payments recorded twice",
        "repeats",
        "payments",
        "The same invoice paid again: the same day, a week later, or under a number written otherwise.",
        {},
    ),
    (
        "suppliers over time",
        "payees",
        "payments",
        "Suppliers back from a long silence, paid all within a few days, or once and much.",
        {"created": "proveedor.alta"},
    ),
    (
        "hours of the journal",
        "calendar",
        "journal",
        "Entries at hours and on weekdays that are not those of whoever made them.",
        {"by": ["preparado"]},
    ),
    (
        "paid without a day of work",
        "match",
        "payroll",
        "Employees who were paid in a month in which the roster has no day of theirs.",
        {"other": "roster", "on": ["empleado"], "when": "month"},
    ),
    (
        "suppliers with an employee's account",
        "match",
        "suppliers",
        "A supplier that is paid to the bank account of an employee.",
        {"other": "staff", "on": ["cuenta_bancaria"], "find": "present", "keys": "normalised"},
    ),
    (
        "traits of journal entries",
        "traits",
        "journal",
        "Entries that were made as made-up ones are: at night, in round amounts, to accounts that hardly "
        "anybody uses, approved by whoever made them.",
        {"limit": "facts.approval"},
    ),
    (
        "payments just under the approval limit",
        "split",
        "payments",
        "Invoices that stay under the limit of approval, or pass it in pieces.",
        {"limit": "facts.approval"},
    ),
    (
        "payments before the award",
        "event",
        "payments",
        "Suppliers that were paid more than usual in the days before the yard's tender was awarded.",
        {"at": "facts.award"},
    ),
    (
        "instalments of the loan",
        "recompute",
        "loan",
        "Instalments of the loan on the Garceta that are not those of its terms.",
        {"what": "instalments", "terms": "loan"},
    ),
    (
        "suppliers entered twice",
        "match",
        "suppliers",
        "Suppliers that stand in the master under two numbers with one bank account.",
        {"other": "suppliers", "on": ["cuenta_bancaria"], "find": "present", "keys": "normalised"},
    ),
    (
        "yard invoices above order and receipt",
        "match",
        "invoices",
        "Materials invoiced in a quantity that was not ordered or did not come, or at another price.",
        {"other": "orders", "receipts": "receipts", "on": ["pedido"]},
    ),
    (
        "numbers of payments",
        "sequence",
        "payments",
        "Payments are numbered one after another: numbers that are missing, or there twice.",
        {"of": "pago", "find": ["gaps", "repeats"]},
    ),
)  # fmt: skip

NOTES = (
    ("first-two digits of payments", "observation",
     "Amounts that begin with 48 and 49 occur more often than expected; one preparer entered most of the "
     "excess, for three suppliers."),
    ("first-two digits of payments", "conclusion",
     "The pattern fits invoices split to stay under the approval limit of 5,000. Referred."),
    ("account totals against last year", "observation",
     "Fuel of the Alcatraz rose while the litres fell. The route to Los Carrizos has no prior period."),
    ("payments", "observation",
     "Nine rows of July 2025 could not be read. The totals line of that month covers them."),
)  # fmt: skip


@dataclass(frozen=True)
class Demo:
    """What the demo did."""

    case: Case
    taken: list[TakeReport]
    run: Run
    queue: list[AuditException]
    answers: list[Answer]
    papers: list[Path]


def build_demo(
    folder: Path, seed: int, scale: float, progress: Callable[[str, int, int], None]
) -> Demo:
    """Write the sample inbox and case into a new folder and work it from end to end.

    Raises
    ------
    UserError
        If the folder exists and is not empty, or the scale is not positive.
    """
    if not 0.05 <= scale <= 100:
        raise UserError(f"--scale {scale:g}: expected a number from 0.05 to 100")
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UserError(f"{folder} exists and is not empty; name a new folder for the sample case")
    steps = 7 + len(INTAKES) + len(PROGRAMME)
    done = 0

    def step(what: str) -> None:
        nonlocal done
        progress(what, done, steps)
        done += 1

    case = Case.create(folder, "Naviera Marisma 2024-2025", "EUR")
    answers = write_inbox(folder / "inbox", seed, scale, lambda what: step(f"writing {what}"))
    for table, (prefix, rules) in RULES.items():
        write_rules(case.plan_path, table, prefix, rules)
    taken = []
    for table, patterns in INTAKES:
        step(f"taking in {table}")
        named = [str(folder / pattern) for pattern in patterns]
        taken.append(
            take_in(case, Taking(table, source_files(case, named, table), named, initials="KL"))
        )
    taken.sort(key=lambda report: report.amount is None)  # the books first, then the masters
    write_links(case.plan_path, LINKS)
    write_facts(case.plan_path, FACTS)
    programme = [
        NewScreen(name, test, table, settings, purpose)
        for name, test, table, purpose, settings in PROGRAMME
    ]
    write_screens(case.plan_path, programme)
    case.changed()
    run = run_programme(
        case, initials="KL", progress=lambda name, _i, _n: step(f"screening {name}")
    )
    step("reviewing")
    _review(case, answers)
    step("writing the paper")
    from sabueso.show.paper import write_paper

    papers = write_paper(case)
    return Demo(case, taken, run, queue(case), answers, papers)


def _review(case: Case, answers: list[Answer]) -> None:
    """The sample reviews: what a good reviewer would record with the documents at hand."""
    every = queue(case)

    def of(table: str, *keys: str) -> list[str]:
        return [
            item.id
            for item in every
            if item.table == table and any(subject_key(item) == key for key in keys)
        ]

    def keys(kind: str, note: str = "") -> list[str]:
        return [a.key for a in answers if a.kind == kind and note in a.note]

    contract = case.folder / "inbox" / "evidence" / "contract-VR-2024-03.txt"
    cleared: tuple[tuple[list[str], str, list[Path]], ...] = (
        (of("payments", *keys("innocent", "overhaul")),
         "dry-dock overhaul, contract VR-2024-03 and board minute 2024/17 seen", [contract]),
        (of("payments", *keys("innocent", "premium")),
         "one-off liability premium, policy seen, insurer confirmed", []),
        (of("journal", "62130", "70530"),
         "route to Los Carrizos opened in March 2025: there is no prior period", []),
        (of("journal", "62230"), "2024 holds the dry-dock overhaul of the Págalo, cleared there", []),
        (of("journal", "62520"), "the one-off liability premium of March 2025, cleared there", []),
    )  # fmt: skip
    signed: list[str] = []
    for ids, reason, evidence in cleared:
        if ids:
            record_disposition(case, ids, "KL", Disposition("cleared", reason, None, evidence))
            signed += ids
    mistyped = of("payments", *keys("12"))
    if mistyped:
        record_disposition(
            case,
            mistyped,
            "KL",
            Disposition("error", "amount mistyped by a factor of 100; invoice seen"),
        )
    split = of("payments", "first-two 48", "first-two 49")
    if split:
        record_disposition(
            case,
            split,
            "KL",
            Disposition(
                "referred", "invoices split under the approval limit; to the audit committee"
            ),
        )
    if signed:
        record_sign_off(case, signed, "MR")
    for subject, kind, text in NOTES:
        record_note(case, subject, kind, text, "KL")


def subject_key(item: AuditException) -> str:
    """A subject as the answer key names it: an id, an account, an employee, or a digit class."""
    if isinstance(item.subject, Class):
        return item.label.split(" · ")[0]
    for name in ("pago", "cuenta", "empleado", "asiento"):
        if name in item.key:
            return str(item.key[name])
    return ""
