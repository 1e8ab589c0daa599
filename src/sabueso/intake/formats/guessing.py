"""Roles found so far of a table's columns: the column whose name suits a role best, and what names deny."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sabueso.intake.formats.called import NUMBER_ROLES, looks_like_date, worded, words_of
from sabueso.intake.formats.header_words import CURRENCY_WORDS, HUNDREDTHS, RUNNING, WORDS
from sabueso.intake.formats.role_words import (
    ANY_NUMBER,
    BESIDE,
    BRANCHES,
    BUYERS,
    BY,
    CHANGED,
    COMMISSIONS,
    ENTERED,
    EXTENDED,
    FEES,
    HEADED,
    IMAGINED,
    IN_CURRENCY,
    IN_FORCE,
    INVOICES,
    JOINING,
    KINDS,
    MONEY,
    NAMES,
    NET_OR_GROSS,
    NO_AMOUNT,
    NUMBER_WORDS,
    NUMBERS,
    OF_A_MASTER,
    OF_ANOTHER,
    OF_ANOTHER_TIME,
    OF_BANKS,
    OF_DOCUMENTS,
    OF_EACH,
    OF_INTEREST,
    OF_LENDING,
    OF_LISTS,
    OF_PAPERS,
    OF_PARTS,
    OF_PAYEES,
    OF_PERSONS,
    OF_RECORDS,
    OF_SOME_HOURS,
    OF_SOMEBODY,
    OF_SPANS,
    OF_TAX,
    OF_VALUE,
    OF_WHOLES,
    OF_WHOM,
    ORDERS,
    PAID,
    PER_UNIT,
    PRICES,
    QUANTITIES,
    STANDING,
    WHO_APPROVES,
    WITH_OR_WITHOUT,
)
from sabueso.population.table import Column, Role

LEAST_ROWS, ROWS_OF_EACH = 100, 20
"""Rows from which the names in a column tell that it is one of few things, and how many rows each then has."""
NEARLY_ALL = 0.9
"""Part of a party's names, and of their rows, that its numbers must have to be what tells it."""


@dataclass
class Guess:
    """Roles found so far, each column in one of them at most."""

    columns: Sequence[Column]
    distinct: Mapping[str, tuple[int, int]]
    found: dict[Role, str] = field(default_factory=dict)
    taken: set[str] = field(default_factory=set)

    def give(self, role: Role, name: str) -> None:
        self.found[role] = name
        self.taken.add(name)

    def is_on_most_rows(self, name: str) -> bool:
        """Whether a column is filled about as often as the fullest: what stands on the first row of each of some
        groups names no row."""
        filled = max((rows for _, rows in self.distinct.values()), default=0)
        return 2 * self.distinct.get(name, (0, 0))[1] > filled

    def best(self, role: Role) -> str | None:
        """The column whose name has the role's best word: alone rather than among others."""
        words = WORDS[role].split()
        scored = []
        for position, column in enumerate(self.columns):
            if column.name in self.taken or not self._suits(role, column):
                continue
            if role in ("document", "id", "account") and looks_like_date(column.name):
                continue  # a day that could not be read as one
            parts = worded(column.name)
            matched = [part for part in parts if part in words]
            if role == "price" and set(matched) <= PER_UNIT and not column.scale:
                continue  # which unit, such as a flat's number
            # Any number may be called one: it names the rows where it stands first.
            if position and role == "id" and set(matched) <= ANY_NUMBER:
                continue
            if role == "amount" and self._is_a_price(column.name, set(parts), set(matched)):
                continue
            if role in ("amount", "quantity") and OF_EACH.search(column.name):
                continue
            if role == "account" and (self._is_with_a_bank(position) or self._is_whole(column)):
                continue
            if matched and not named_otherwise(role, parts):
                several = len(words_of(column.name)) > 1
                rank = min(words.index(part) for part in matched)
                if role == "text" and self._is_one_of_few(column.name, set(parts)):
                    continue
                another = int(role == "text" and self._names_another(set(parts), set(matched)))
                if role == "party":
                    # Whoever acts for the house comes after whom it deals with.
                    acts = set(matched) <= BUYERS
                    another = 2 * acts or int(self._is_numbered_beside(column, set(matched)))
                if role == "date":
                    # When money is due, or bears interest from, is not when it moved.
                    # Of several days the one that is called as the amount is: Paid Amt, Paid Dt.
                    own = set(worded(self.found.get("amount", "")))
                    own -= MONEY | IN_CURRENCY | OF_VALUE | JOINING
                    as_amount = not own.isdisjoint(parts)
                    another = 2 * (not OF_VALUE.isdisjoint(parts)) or int(not as_amount)
                    another += 2 * (not (OF_SPANS - IN_FORCE).isdisjoint(parts))
                    another += int(not OF_RECORDS.isdisjoint(parts))
                if role == "entered":  # the hour tells more than the day
                    another = int(column.type == "date")
                if role == "amount":
                    beside = set(matched) <= BESIDE or not OF_PARTS.isdisjoint(parts)
                    another = int(beside or _is_of_tax(parts) or not IMAGINED.isdisjoint(parts))
                    if set(matched) <= COMMISSIONS:
                        another = int(self._is_named(OF_WHOLES, column.name))
                if role == "price":
                    another = int(not OF_LISTS.isdisjoint(parts))
                if role == "document":
                    another = int(not _numbers_invoices(parts)) + self._is_a_records(column.name)
                if role == "id":
                    # What tells every row apart comes before what comes again.
                    n, rows = self.distinct.get(column.name, (0, 0))
                    another = int(n < rows)
                    if another and not (OF_SOMEBODY | ORDERS).isdisjoint(parts):
                        continue  # whose row it is, or of which order, and not which
                scored.append((another, several, rank, position, column.name))
            elif role == "party" and self._is_once_each(column) and _STAFF.intersection(parts):
                continue  # a list of them, whose id it is
            elif _said_in_two(role, set(parts)) and (role != "amount" or column.scale):
                another = int(role == "document" and not _numbers_invoices(parts))
                if role == "preparer":  # who changed it last comes after who made it
                    another = int(not CHANGED.isdisjoint(parts))
                scored.append((another, True, len(words), position, column.name))
        best = min(scored)[4] if scored else None
        if role == "amount" and best and min(scored)[0]:
            part = not FEES.isdisjoint(worded(best)) or _is_of_tax(worded(best))
            return None if part and self._is_other_money() else best
        return best

    def _is_a_records(self, name: str) -> bool:
        """Whether the id of a paper is that of its record, as its number, which is on the paper, stands beside."""
        parts = set(worded(name))
        if "id" not in parts:
            return False
        numbered = NUMBER_WORDS - {"id"}
        others = (set(worded(c.name)) for c in self.columns if c.type == "text")
        return any(of & numbered and of - numbered == parts - {"id"} for of in others)

    def _is_numbered_beside(self, column: Column, matched: set[str]) -> bool:
        """Whether a party's number stands beside its name: two of one name are two, and masters go by numbers."""
        if not NUMBERS.isdisjoint(worded(column.name)):
            return False
        distinct, rows = self.distinct.get(column.name, (0, 0))
        for other in self.columns:
            parts = set(worded(other.name))
            free = other.name != column.name and other.name not in self.taken
            if (
                not free
                or other.type != "text"
                or not (alike_parties(matched) & parts and NUMBERS & parts)
            ):
                continue
            if named_otherwise("party", worded(other.name)) or parts & (OF_TAX | OF_BANKS):
                continue
            its, filled = self.distinct.get(other.name, (0, 0))
            if filled >= NEARLY_ALL * rows and its >= NEARLY_ALL * distinct:
                return True
        return False

    def _names_another(self, parts: set[str], matched: set[str]) -> bool:
        """Whether a text is the name of something else than the party, where there is one."""
        if parts & OF_ANOTHER:
            return True
        party = set(worded(self.found.get("party", ""))) & OF_SOMEBODY
        return bool(party) and matched <= NAMES and alike_parties(party).isdisjoint(parts)

    def _is_one_of_few(self, name: str, parts: set[str]) -> bool:
        """Whether a column names whoever made the rows, or a department or the like, a few of which all rows are of:
        no text of a row."""
        if not parts & NAMES or not parts - NAMES - NUMBERS or parts & (OF_ANOTHER | OF_SOMEBODY):
            return False
        if not parts.isdisjoint((*WORDS["preparer"].split(), *WORDS["approver"].split())):
            return True
        distinct, rows = self.distinct.get(name, (0, 0))
        return rows >= LEAST_ROWS and distinct * ROWS_OF_EACH <= rows

    def _is_with_a_bank(self, position: int) -> bool:
        """Whether the column before one says where an account is: a branch's code."""
        before = worded(self.columns[position - 1].name) if position else ()
        return not BRANCHES.isdisjoint(before)

    def _is_once_each(self, column: Column) -> bool:
        distinct, rows = self.distinct.get(column.name, (0, 0))
        return 1 < distinct == rows

    def _is_whole(self, column: Column) -> bool:
        """Whether a column names the ledger that all rows are of, and no account of it."""
        parts = set(worded(column.name))
        distinct, rows = self.distinct.get(column.name, (0, 0))
        return "ledger" in parts and not parts.isdisjoint(NUMBERS | NAMES) and distinct < 2 <= rows

    def _is_a_price(self, name: str, parts: set[str], matched: set[str]) -> bool:
        """Whether a net or gross price is one of each of what the rows count."""
        of_one = matched <= NET_OR_GROSS and parts & PRICES and not parts & (EXTENDED | {"total"})
        return bool(of_one) and any(
            c.type == "number" and c.name != name and not QUANTITIES.isdisjoint(worded(c.name))
            for c in self.columns
        )

    def may_be_amounts(self) -> list[Column]:
        """The numbers of whose names no word denies that they are amounts."""
        return [
            c
            for c in self.columns
            if c.type == "number" and not named_otherwise("amount", worded(c.name))
        ]

    def _is_named(self, words: frozenset[str], but: str) -> bool:
        """Whether a number other than one is called by one of some words."""
        return any(
            c.name != but and not words.isdisjoint(worded(c.name)) for c in self.may_be_amounts()
        )

    def _is_other_money(self) -> bool:
        """Whether there are numbers beside a fee, or a tax, which may be what it is of."""
        words = {word for role in NUMBER_ROLES for word in WORDS[role].split()} | OF_TAX
        return any(
            c.scale
            and "%" not in c.name
            and c.name not in self.taken
            and words.isdisjoint(worded(c.name))
            for c in self.may_be_amounts()
        )

    def _suits(self, role: Role, column: Column) -> bool:
        if role in NUMBER_ROLES:
            # Commission %: a share of something.
            return column.type == "number" and "%" not in column.name
        if role == "date":
            return column.type in ("date", "timestamp")
        if role == "entered":
            return column.type in ("date", "timestamp", "time")
        if role == "id":
            n, rows = self.distinct.get(column.name, (0, 0))
            # What has cents tells no row: a Payment beside a Charge.
            kind = column.type == "text" or (column.type == "number" and column.scale < 2)
            named = kind and rows > 0 and n >= 0.2 * rows
            return named and self.is_on_most_rows(column.name)
        return column.type == "text"


def may_be_its_day(name: str) -> bool:
    """Whether days of a column may be those on which its rows happened: when somebody approved it is not when it was."""
    parts = worded(name)
    others = OF_ANOTHER_TIME.union(WORDS["approver"].split())
    return not named_otherwise("date", parts) and others.isdisjoint(parts)


def alike_parties(matched: set[str]) -> set[str]:
    """Words of a party with those that say the same."""
    return matched.union(*(words for words in OF_PAYEES if words & matched))


_MEASURED = (QUANTITIES | MONEY) - set(WORDS["id"].split())
_STAFF = frozenset(["staff", "worker", "personnel", "payroll", "badge", "crew"])
_OF_ENTRIES = frozenset(
    ["voucher", "journal", "entry", "batch", "line", "transaction", "trans", "document", "doc"]
)
_STYLED = frozenset(["razon", "razao", "raison", "ragione"])


def _said_in_two(role: Role, parts: set[str]) -> bool:
    """Whether two words of a name say a role that neither says alone: entered by, inv. no."""
    if role == "document":
        numbered = bool(parts & {"no", "nr", "num", "number"})
        return ("inv" in parts and numbered) or ("doc" in parts and parts <= OF_DOCUMENTS)
    if role == "amount":
        return bool(parts & EXTENDED and parts & PRICES) or bool(parts & {"extended", "extension"})
    if role == "entered":
        return parts == {"valid", "date"}
    if role == "party":
        if parts & _STYLED and parts & {"social", "sociale"}:
            return True  # the name that a company trades under
        if parts & _STAFF and parts & NUMBERS and parts <= _STAFF | NUMBERS:
            return True  # whose number it is
        return "to" in parts and bool(parts & PAID) and "date" not in parts
    if role != "preparer":
        return False
    return bool(parts & BY and parts & (ENTERED | CHANGED)) or {"card", "member"} <= parts


def _numbers_invoices(parts: Sequence[str]) -> bool:
    """Whether a name is that of the invoice's own number, which tells one that was entered twice: the voucher under
    which it was entered does not."""
    given = set(parts)
    return bool(given & INVOICES) and given <= INVOICES | NUMBER_WORDS | OF_SOMEBODY | OF_DOCUMENTS


def _is_of_tax(parts: Sequence[str]) -> bool:
    """Whether a name says how much tax, and not an amount with it or without."""
    return not OF_TAX.isdisjoint(parts) and WITH_OR_WITHOUT.isdisjoint(parts)


def _is_of_papers(words: Sequence[str]) -> bool:
    """Whether a party's word in a name tells whose paper is numbered: a supplier's invoice, and not an invoice's
    supplier."""
    papers = [place for place, word in enumerate(words) if word in OF_PAPERS]
    if not papers or not HEADED.issuperset(words[place] for place in papers):
        return bool(papers)
    parties = [place for place, word in enumerate(words) if word in OF_SOMEBODY]
    return not parties or papers[-1] > parties[-1]


def named_otherwise(role: Role, words: Sequence[str]) -> bool:
    """Whether other words of a name deny a role: a bank account is no ledger account."""
    parts = set(words)
    if role in ("account", "party", "document", "id", "text") and parts & CURRENCY_WORDS:
        return True  # an account's currency is no account
    if role in ("account", "party", "document") and parts & OF_WHOM:
        return True
    if role in ("preparer", "approver") and parts & (OF_WHOM - WHO_APPROVES):
        return True
    if role == "entered":
        return bool(parts & BY)
    if role == "date":
        return bool(parts & OF_A_MASTER)
    if role == "currency":
        return "foreign" in parts
    if role == "price":
        return not parts.isdisjoint(OF_INTEREST | EXTENDED)
    if role == "quantity":
        return not parts.isdisjoint(OF_SOME_HOURS)
    if role == "party":
        # Whoever holds the card, and not whom it pays; and a customer's order is no customer.
        return {"card", "member"} <= parts or _is_of_papers(words)
    if role == "id" and (parts & OF_PERSONS or (parts & _MEASURED and parts.isdisjoint(NUMBERS))):
        return True  # what was paid, or weighed, is no payment's number
    if role in ("document", "id"):
        return not parts.isdisjoint(KINDS) and parts.isdisjoint(NUMBER_WORDS)
    if role == "text":
        return not parts.isdisjoint(("period", "month", "year", "code"))
    if role in ("debit", "credit"):
        # What an account stands at has its sides too, and credit is what somebody is given.
        return not all(map(parts.isdisjoint, (RUNNING, STANDING, OF_LENDING, NO_AMOUNT)))
    if role == "amount":
        # What an account stands at after each row is no amount of the row, and a cost centre no cost.
        # Nor are hundredths amounts, which would be a hundred times the money.
        return not all(map(parts.isdisjoint, (RUNNING, NO_AMOUNT, HUNDREDTHS)))
    if role == "account" and parts & {"gl", "ledger"} and parts & _OF_ENTRIES:
        return True  # an entry of the ledger, and no account of it
    return role == "account" and bool(
        parts & {"bancaria", "bancario", "bank", "iban", "balance", "saldo", "credito"}
    )
