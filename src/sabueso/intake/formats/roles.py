"""Roles guessed from header words and from what the columns hold."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from sabueso.intake.formats.called import NUMBER_ROLES, folded, looks_like_date, worded
from sabueso.intake.formats.currencies import stated_currency
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.header_words import CURRENCY_WORDS, HUNDREDTHS, RUNNING, WORDS
from sabueso.intake.formats.role_words import (
    ANY_NUMBER,
    BESIDE,
    BUYERS,
    BY,
    COMMISSIONS,
    ENTERED,
    EXTENDED,
    FEES,
    HEADED,
    IN_CURRENCY,
    INVOICES,
    KINDS,
    MONEY,
    MOVED,
    NAMES,
    NET_OR_GROSS,
    NO_AMOUNT,
    NUMBER_WORDS,
    NUMBERS,
    OF_A_MASTER,
    OF_ANOTHER,
    OF_BANKS,
    OF_DOCUMENTS,
    OF_INTEREST,
    OF_LENDING,
    OF_LISTS,
    OF_ONE_UNIT,
    OF_PAPERS,
    OF_PARTS,
    OF_SOMEBODY,
    OF_TAX,
    OF_VALUE,
    OF_WHOLES,
    OF_WHOM,
    PAID,
    PER_UNIT,
    PRICES,
    QUANTITIES,
    STANDING,
    WHO_APPROVES,
    WITH_OR_WITHOUT,
)
from sabueso.intake.formats.sides import SIDES, phrased_pair
from sabueso.population.table import Column, Role


def _several(role: Role, columns: Sequence[Column]) -> bool:
    """Whether more than one number column is called as those in a role are."""
    words = WORDS[role].split()
    named = [
        c
        for c in columns
        if c.type == "number"
        and set(folded(c.name).split()) & set(words)
        and not _named_otherwise(role, worded(c.name))
    ]
    return len(named) > 1


def guess_roles(
    columns: Sequence[Column],
    distinct: Mapping[str, tuple[int, int]],
    both_filled: Callable[[str, str], bool] = lambda debit, credit: False,
    formats: Mapping[str, Format] | None = None,
) -> dict[Role, str]:
    """Roles of columns, each role and each column at most once.

    Parameters
    ----------
    columns : sequence of Column
        The columns with their types.
    distinct : mapping of str to (int, int)
        Per column, distinct and non-empty texts in the sample.
    both_filled : callable
        Whether most rows have a figure in both of two columns: two measures then, and no sides of the
        ledger, unless the trade's own words name them.
    formats : mapping of str to format, optional
        How columns are read: beside which digits a currency stands.
    """
    guess = _Guess(columns, distinct)
    pair = phrased_pair([c.name for c in columns if c.type == "number"])
    if pair is not None and not both_filled(*pair):
        guess.give("debit", pair[0])
        guess.give("credit", pair[1])
    for role in WORDS:
        name = None if role in guess.found else guess.best(role)
        if name is not None:
            guess.give(role, name)
    _settle_sides(guess, both_filled)
    _settle_money(guess, formats or {})
    _settle_date(guess)
    _settle_price(guess)
    _settle_name(guess)
    _settle_buyer(guess)
    if "amount" in guess.found and "date" not in guess.found and "entered" in guess.found:
        # What happens is dated: of amounts the only time there is is theirs.
        entered = next(c for c in columns if c.name == guess.found["entered"])
        if entered.type in ("date", "timestamp") and not _named_otherwise(
            "date", worded(entered.name)
        ):
            guess.found["date"] = guess.found.pop("entered")
    first = columns[0] if columns else None
    free = first is not None and first.name not in guess.taken and not looks_like_date(first.name)
    if "id" not in guess.found and first is not None and free:
        n, rows = distinct.get(first.name, (0, 0))
        if rows and n == rows and first.type == "text" and guess.is_on_most_rows(first.name):
            guess.found["id"] = first.name
    return guess.found


def is_no_money(name: str) -> bool:
    """Whether a name says that a number is a count, a share or a rate, whatever else it says."""
    return not NO_AMOUNT.isdisjoint(worded(name))


def may_have(role: Role, name: str) -> bool:
    """Whether a name is one of those by which columns have a role: a posting's day, and not when it is due."""
    parts = worded(name)
    if set(parts).isdisjoint(WORDS[role].split()) or _named_otherwise(role, parts):
        return False
    return role != "date" or set(parts).isdisjoint((*OF_VALUE, *WORDS["approver"].split()))


NEARLY_ALL = 0.9
"""Part of a party's names, and of their rows, that its numbers must have to be what tells it."""


@dataclass
class _Guess:
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
            if matched and not _named_otherwise(role, parts):
                several = len(folded(column.name).split()) > 1
                rank = min(words.index(part) for part in matched)
                another = int(role == "text" and bool(set(parts) & OF_ANOTHER))
                if role == "party":
                    another = int(self._is_numbered_beside(column, set(matched)))
                if role == "date":
                    # When money is due, or bears interest from, is not when it moved.
                    # Of several days the one that is called as the amount is: Paid Amt, Paid Dt.
                    own = set(worded(self.found.get("amount", "")))
                    as_amount = not set(parts).isdisjoint(own - MONEY - IN_CURRENCY - OF_VALUE)
                    another = 2 * (not OF_VALUE.isdisjoint(parts)) or int(not as_amount)
                if role == "amount":
                    beside = set(matched) <= BESIDE or not OF_PARTS.isdisjoint(parts)
                    another = int(beside or _is_of_tax(parts))
                    if set(matched) <= COMMISSIONS:
                        another = int(self._is_named(OF_WHOLES, column.name))
                if role == "price":
                    another = int(not OF_LISTS.isdisjoint(parts))
                if role == "document":
                    another = int(not _numbers_invoices(parts))
                if role == "id":
                    # What tells every row apart comes before what comes again.
                    n, rows = self.distinct.get(column.name, (0, 0))
                    another = int(n < rows)
                    if another and not OF_SOMEBODY.isdisjoint(parts):
                        continue  # whose row it is, and not which
                scored.append((another, several, rank, position, column.name))
            elif _said_in_two(role, set(parts)) and (role != "amount" or column.scale):
                another = int(role == "document" and not _numbers_invoices(parts))
                scored.append((another, True, len(words), position, column.name))
        best = min(scored)[4] if scored else None
        if role == "amount" and best and min(scored)[0]:
            part = not FEES.isdisjoint(worded(best)) or _is_of_tax(worded(best))
            return None if part and self._is_other_money() else best
        return best

    def _is_numbered_beside(self, column: Column, matched: set[str]) -> bool:
        """Whether a party's number stands beside its name: two of one name are two, and masters go by numbers."""
        if not NUMBERS.isdisjoint(worded(column.name)):
            return False
        distinct, rows = self.distinct.get(column.name, (0, 0))
        for other in self.columns:
            parts = set(worded(other.name))
            free = other.name != column.name and other.name not in self.taken
            if not free or other.type != "text" or not (matched & parts and NUMBERS & parts):
                continue
            if _named_otherwise("party", worded(other.name)) or parts & (OF_TAX | OF_BANKS):
                continue
            its, filled = self.distinct.get(other.name, (0, 0))
            if filled >= NEARLY_ALL * rows and its >= NEARLY_ALL * distinct:
                return True
        return False

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
            if c.type == "number" and not _named_otherwise("amount", worded(c.name))
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


def _said_in_two(role: Role, parts: set[str]) -> bool:
    """Whether two words of a name say a role that neither says alone: entered by, inv. no."""
    if role == "document":
        numbered = bool(parts & {"no", "nr", "num", "number"})
        return ("inv" in parts and numbered) or ("doc" in parts and parts <= OF_DOCUMENTS)
    if role == "amount":
        return bool(parts & EXTENDED and parts & PRICES) or bool(parts & {"extended", "extension"})
    if role == "party":
        return "to" in parts and bool(parts & PAID) and "date" not in parts
    if role != "preparer":
        return False
    return bool(parts & BY and parts & ENTERED) or {"card", "member"} <= parts


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


def _named_otherwise(role: Role, words: Sequence[str]) -> bool:
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
    if role == "party":
        # Whoever holds the card, and not whom it pays; and a customer's order is no customer.
        return {"card", "member"} <= parts or _is_of_papers(words)
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
    return role == "account" and bool(
        parts & {"bancaria", "bancario", "bank", "iban", "balance", "saldo", "credito"}
    )


def _settle_sides(guess: _Guess, both_filled: Callable[[str, str], bool]) -> None:
    """Leave a debit and a credit only where they are the sides of one amount."""
    found = guess.found
    if {"debit", "credit"} <= set(found):
        sides = found["debit"], found["credit"]
        words = set(worded(" ".join(sides)))
        several = all(_several(role, guess.columns) for role in ("debit", "credit"))
        # Of two pairs, such as those of two years, neither is the table's.
        if several or (words.isdisjoint(SIDES) and both_filled(*sides)):
            del found["debit"], found["credit"]
    # A debit without a credit is only a column called "cargo".
    if ("debit" in found) != ("credit" in found):
        alone: Role = "debit" if "debit" in found else "credit"
        name = found.pop(alone)
        if "amount" not in found:
            found["amount"] = name


def _settle_money(guess: _Guess, formats: Mapping[str, Format]) -> None:
    """Where no column is called as amounts are, the one that states a currency has them: in its name, or beside
    its digits."""
    if not guess.found.keys().isdisjoint(("amount", "debit")):
        return
    free = [c for c in guess.may_be_amounts() if c.name not in guess.taken]
    named = [c.name for c in free if stated_currency(c.name, formats, "")]
    moved = [c.name for c in free if c.scale and not MOVED.isdisjoint(worded(c.name))]
    if len(named) == 1 or (not named and len(moved) == 1):
        guess.give("amount", (named or moved)[0])


def _settle_price(guess: _Guess) -> None:
    """Where nothing else is an amount, a price for which nothing was counted: what was bid, or paid, in one."""
    found = guess.found
    if "price" not in found or not found.keys().isdisjoint(("amount", "debit", "quantity")):
        return
    parts = folded(found["price"]).split()
    if "date" in found and OF_ONE_UNIT.isdisjoint(parts) and (len(parts) > 1 or "party" in found):
        found["amount"] = found.pop("price")


def _settle_name(guess: _Guess) -> None:
    """Who the rows of a ledger are of, where nothing but a column of names tells: names that come again."""
    if "party" in guess.found:
        _settle_whose(guess)
        return
    if not {"amount", "date"} <= set(guess.found):
        return
    for column in guess.columns:
        distinct, rows = guess.distinct.get(column.name, (0, 0))
        is_text = column.name == guess.found.get("text")
        free = column.type == "text" and (is_text or column.name not in guess.taken)
        parts = set(worded(column.name))
        if not free or not parts or not parts <= NAMES or 2 * distinct > rows:
            continue
        guess.give("party", column.name)
        if is_text:
            del guess.found["text"]
            if (other := guess.best("text")) is not None:
                guess.give("text", other)
        return


def _settle_whose(guess: _Guess) -> None:
    """The name of a party that its number tells is the text of its rows, where they have no other."""
    party = set(worded(guess.found["party"]))
    if "text" in guess.found or party.isdisjoint(NUMBERS):
        return
    own = party & set(WORDS["party"].split())
    for column in guess.columns:
        parts = worded(column.name)
        free = column.type == "text" and column.name not in guess.taken
        if free and own & set(parts) and not _named_otherwise("party", parts):
            guess.give("text", column.name)
            return


def _settle_buyer(guess: _Guess) -> None:
    """Who made an entry, where a party stands beside whoever bought from it."""
    if "preparer" in guess.found or "party" not in guess.found:
        return
    for column in guess.columns:
        free = column.type == "text" and column.name not in guess.found.values()
        if free and not BUYERS.isdisjoint(worded(column.name)):
            guess.give("preparer", column.name)
            return


def _settle_date(guess: _Guess) -> None:
    """The only column of dates that most rows fill, where no name told."""
    if "date" in guess.found:
        return
    filled = max((rows for _, rows in guess.distinct.values()), default=0)
    dates = [
        c.name
        for c in guess.columns
        if c.type in ("date", "timestamp")
        and c.name not in guess.taken
        and not _named_otherwise("date", worded(c.name))
        # When somebody approved it is not when it was.
        and set(worded(c.name)).isdisjoint(WORDS["approver"].split())
        and 2 * guess.distinct.get(c.name, (0, 0))[1] >= filled  # most rows have no day of leaving
    ]
    if len(dates) > 1:
        # When money is due, or bears interest from, is not when it moved.
        dates = [name for name in dates if OF_VALUE.isdisjoint(worded(name))]
    if len(dates) == 1:
        guess.found["date"] = dates[0]
