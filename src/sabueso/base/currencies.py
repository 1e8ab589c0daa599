"""Signs of currencies, and the codes of those that write themselves so."""

from __future__ import annotations

from collections.abc import Mapping

# ISO 4217, the national currencies in use.
CODES = frozenset(
    [
        "AED",
        "AFN",
        "ALL",
        "AMD",
        "ANG",
        "AOA",
        "ARS",
        "AUD",
        "AWG",
        "AZN",
        "BAM",
        "BBD",
        "BDT",
        "BGN",
        "BHD",
        "BIF",
        "BMD",
        "BND",
        "BOB",
        "BRL",
        "BSD",
        "BTN",
        "BWP",
        "BYN",
        "BZD",
        "CAD",
        "CDF",
        "CHF",
        "CLP",
        "CNY",
        "COP",
        "CRC",
        "CUP",
        "CVE",
        "CZK",
        "DJF",
        "DKK",
        "DOP",
        "DZD",
        "EGP",
        "ERN",
        "ETB",
        "EUR",
        "FJD",
        "FKP",
        "GBP",
        "GEL",
        "GHS",
        "GIP",
        "GMD",
        "GNF",
        "GTQ",
        "GYD",
        "HKD",
        "HNL",
        "HTG",
        "HUF",
        "IDR",
        "ILS",
        "INR",
        "IQD",
        "IRR",
        "ISK",
        "JMD",
        "JOD",
        "JPY",
        "KES",
        "KGS",
        "KHR",
        "KMF",
        "KPW",
        "KRW",
        "KWD",
        "KYD",
        "KZT",
        "LAK",
        "LBP",
        "LKR",
        "LRD",
        "LSL",
        "LYD",
        "MAD",
        "MDL",
        "MGA",
        "MKD",
        "MMK",
        "MNT",
        "MOP",
        "MRU",
        "MUR",
        "MVR",
        "MWK",
        "MXN",
        "MYR",
        "MZN",
        "NAD",
        "NGN",
        "NIO",
        "NOK",
        "NPR",
        "NZD",
        "OMR",
        "PAB",
        "PEN",
        "PGK",
        "PHP",
        "PKR",
        "PLN",
        "PYG",
        "QAR",
        "RON",
        "RSD",
        "RUB",
        "RWF",
        "SAR",
        "SBD",
        "SCR",
        "SDG",
        "SEK",
        "SGD",
        "SHP",
        "SLE",
        "SOS",
        "SRD",
        "SSP",
        "STN",
        "SVC",
        "SYP",
        "SZL",
        "THB",
        "TJS",
        "TMT",
        "TND",
        "TOP",
        "TRY",
        "TTD",
        "TWD",
        "TZS",
        "UAH",
        "UGX",
        "USD",
        "UYU",
        "UZS",
        "VES",
        "VND",
        "VUV",
        "WST",
        "XAF",
        "XCD",
        "XOF",
        "XPF",
        "YER",
        "ZAR",
        "ZMW",
    ]
)
COINS = frozenset(
    ["BTC", "XBT", "ETH", "USDT", "USDC", "BUSD", "DAI", "XRP", "LTC", "BCH", "BNB", "SOL", "ADA", "DOT", "DOGE", "TRX",
     "XMR", "XLM", "ETC", "MATIC", "AVAX", "LINK", "ATOM", "DASH", "ZEC", "WBTC", "WETH", "TON", "SHIB", "EOS", "ALGO"]
)  # fmt: skip
"""What the trade calls the coins of public ledgers: no currencies of a state, and no more to be added up with them."""
WITHOUT_CENTS = frozenset(
    ["BIF", "CLP", "DJF", "GNF", "HUF", "IDR", "ISK", "JPY", "KMF", "KRW", "PYG", "RWF", "UGX", "VND", "VUV", "XAF", "XOF",
     "XPF"]
)  # fmt: skip
"""Currencies that have no hundredths, or whose hundredths nobody writes."""
_IN_THOUSANDTHS = frozenset(["BHD", "IQD", "JOD", "KWD", "LYD", "OMR", "TND"])
OF_ONE = {
    "R$": "BRL", "US$": "USD", "A$": "AUD", "AU$": "AUD", "C$": "CAD", "CA$": "CAD", "NZ$": "NZD", "HK$": "HKD",
    "MX$": "MXN", "S$": "SGD", "RD$": "DOP", "NT$": "TWD", "€": "EUR", "£": "GBP", "zł": "PLN", "Kč": "CZK",
    "Ft": "HUF", "lei": "RON", "Lei": "RON", "SFr.": "CHF", "Fr.": "CHF", "S/": "PEN", "S/.": "PEN", "₹": "INR",
    "₺": "TRY", "₽": "RUB", "₴": "UAH", "₩": "KRW", "₪": "ILS", "₫": "VND", "₱": "PHP", "฿": "THB", "₦": "NGN",
    "₸": "KZT", "₡": "CRC", "₲": "PYG", "円": "JPY", "원": "KRW", "руб": "RUB", "руб.": "RUB", "грн": "UAH", "грн.": "UAH",
    "лв": "BGN", "лв.": "BGN", "дин": "RSD", "дин.": "RSD", "Rp": "IDR", "Rp.": "IDR", "RM": "MYR",
    "TL": "TRY", "₼": "AZN", "֏": "AMD", "₾": "GEL", "₵": "GHS", "₮": "MNT", "₭": "LAK", "៛": "KHR", "৳": "BDT", "KSh": "KES",
    "TSh": "TZS", "USh": "UGX", "đ": "VND", "VNĐ": "VND", "บาท": "THB", "ر.س": "SAR", "ر.س.": "SAR", "د.إ": "AED",
    "ج.م": "EGP", "ج.م.": "EGP", "د.ك": "KWD", "ден": "MKD", "ден.": "MKD",
}  # fmt: skip
"""Signs that one currency has alone."""
OF_SEVERAL = {
    "$": "USD CAD AUD NZD MXN HKD SGD ARS CLP COP UYU DOP TWD BSD BBD JMD TTD FJD NAD LRD BZD",
    "¥": "JPY CNY", "￥": "JPY CNY", "元": "CNY TWD HKD", "kr": "SEK NOK DKK ISK", "kr.": "DKK SEK NOK ISK", "Kr": "SEK NOK DKK ISK",
    "Kr.": "DKK SEK NOK ISK", "Rs": "INR PKR LKR NPR MUR SCR", "Rs.": "INR PKR LKR NPR MUR SCR", "Bs": "BOB VES",
    "Bs.": "BOB VES",
}  # fmt: skip


def least_decimals(currency: str) -> int:
    """Decimals that amounts of a currency are told in at least: those of its smallest unit.

    Examples
    --------
    >>> [least_decimals(code) for code in ("EUR", "JPY", "KWD", "unheard of")]
    [2, 0, 3, 2]
    """
    return 0 if currency in WITHOUT_CENTS else 3 if currency in _IN_THOUSANDTHS else 2


def coded(sign: str, own: str) -> str:
    """The currency of a sign, or of a code: of a sign that several currencies have, the case's own where it is
    one of these, else the sign as it stands.

    Examples
    --------
    >>> coded("R$", "EUR"), coded("$", "CAD"), coded("$", "EUR"), coded("CHF", "EUR")
    ('BRL', 'CAD', '$', 'CHF')
    """
    if sign in OF_SEVERAL:
        return own if own in OF_SEVERAL[sign].split() else sign
    return OF_ONE.get(sign, sign)


def of_one_currency(signs: Mapping[str, int]) -> str:
    """The commonest of some signs and codes, with how many have each, where all are of one currency; nothing where
    they are of several.

    Examples
    --------
    >>> of_one_currency({"EUR": 2, "€": 3}), of_one_currency({"€": 3, "£": 1}), of_one_currency({})
    ('€', '', '')
    """
    one = len({coded(sign, "") for sign in signs}) == 1
    return max(signs, key=lambda sign: signs[sign]) if one else ""


def written(text: str) -> str:
    """A code as it is written elsewhere: ``eur`` is EUR; what is no code of three letters is as it stands.

    Examples
    --------
    >>> written(" chf "), written("$"), written("euros")
    ('CHF', '$', 'euros')
    """
    text = text.strip()
    return text.upper() if len(text) == 3 and text.isascii() and text.isalpha() else text
