"""The plan of the sample case: links, rules, facts, what is taken in, the programme of screens, and notes."""

from __future__ import annotations

from sabueso.base.plain import Values
from sabueso.demo.records import INSTALMENTS, PRINCIPAL, RATE
from sabueso.demo.world import APPROVAL_LIMIT, TENDER_AWARDED

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
