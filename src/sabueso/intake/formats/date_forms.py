"""The forms of dates, moments and times of day: what a text of each looks like, and how it is shown."""

from __future__ import annotations

from sabueso.intake.formats import clocks

DATE_FORMS: dict[str, tuple[str, str, str, str]] = {
    # form: (pattern of its texts, type, order of its parts, how it is shown)
    "%Y-%m-%d": (r"[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}", "date", "year first", "yyyy-mm-dd"),
    "%Y/%m/%d": (r"[0-9]{4}/[0-9]{1,2}/[0-9]{1,2}", "date", "year first", "yyyy/mm/dd"),
    "%Y.%m.%d": (r"[0-9]{4}\.[0-9]{1,2}\.[0-9]{1,2}", "date", "year first", "yyyy.mm.dd"),
    "%Y%m%d": (r"(?:19|20)[0-9]{6}", "date", "year first", "yyyymmdd"),
    "%d/%m/%Y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}", "date", "day first", "dd/mm/yyyy"),
    "%m/%d/%Y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}", "date", "month first", "mm/dd/yyyy"),
    "%d-%m-%Y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}", "date", "day first", "dd-mm-yyyy"),
    "%m-%d-%Y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}", "date", "month first", "mm-dd-yyyy"),
    "%d.%m.%Y": (r"[0-9]{1,2}\.[0-9]{1,2}\.[0-9]{4}", "date", "day first", "dd.mm.yyyy"),
    "%d/%m/%y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{2}", "date", "day first", "dd/mm/yy"),
    "%m/%d/%y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{2}", "date", "month first", "mm/dd/yy"),
    "%d.%m.%y": (r"[0-9]{1,2}\.[0-9]{1,2}\.[0-9]{2}", "date", "day first", "dd.mm.yy"),
    "%d-%m-%y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{2}", "date", "day first", "dd-mm-yy"),
    "%m-%d-%y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{2}", "date", "month first", "mm-dd-yy"),
    "%d %m %Y": (r"[0-9]{1,2} [0-9]{1,2} [0-9]{4}", "date", "day first", "dd mm yyyy"),
    "dotted": (
        r"[0-9]{4}\. ?[0-9]{1,2}\. ?[0-9]{1,2}\.|[0-9]{4}\. [0-9]{1,2}\. [0-9]{1,2}",
        "date",
        "year first",
        "yyyy. mm. dd.",
    ),
    "signs": (
        r"[0-9]{4} ?[年년] ?[0-9]{1,2} ?[月월] ?[0-9]{1,2} ?[日일]",
        "date",
        "year first",
        "year, month and day by their signs",
    ),
    "era": (
        r"(?:令和|平成|昭和|[RHS]) ?(?:[0-9]{1,2}|元)(?:[年./-]) ?[0-9]{1,2}(?:[月./-]) ?[0-9]{1,2}日?",
        "date",
        "year first",
        "year of an era, month, day",
    ),
    "buddhist": (
        r"[0-9]{1,2}([/.-])[0-9]{1,2}\1(?:24|25|26)[0-9]{2}",
        "date",
        "day first",
        "dd/mm/yyyy, the year of the Buddhist era: 2567 is 2024",
    ),
    "buddhist year": (
        r"(?:24|25|26)[0-9]{2}([/.-])[0-9]{1,2}\1[0-9]{1,2}",
        "date",
        "year first",
        "yyyy-mm-dd, the year of the Buddhist era: 2567 is 2024",
    ),
    "%Y-%m": (r"[0-9]{4}-[0-9]{2}", "date", "year first", "yyyy-mm"),
    "%Y/%m": (r"[0-9]{4}/[0-9]{2}", "date", "", "yyyy/mm"),
    "%Y.%m": (r"(?:19|20)[0-9]{2}\.(?:0[1-9]|1[0-2])", "date", "", "yyyy.mm"),
    "%Y%m": (r"(?:19|20)[0-9]{2}(?:0[1-9]|1[0-2])", "date", "", "yyyymm"),
    "%m/%Y": (r"[0-9]{2}/[0-9]{4}", "date", "", "mm/yyyy"),
    "%m-%Y": (r"[0-9]{2}-[0-9]{4}", "date", "", "mm-yyyy"),
    "%m.%Y": (r"(?:0[1-9]|1[0-2])\.(?:19|20)[0-9]{2}", "date", "", "mm.yyyy"),
    "%YM%m": (r"(?:19|20)[0-9]{2}M(?:0[1-9]|1[0-2])", "date", "", "yyyyMmm"),
    "%Y-M%m": (r"(?:19|20)[0-9]{2}-M(?:0[1-9]|1[0-2])", "date", "", "yyyy-Mmm"),
    "%Y %m": (r"(?:19|20)[0-9]{2} (?:0[1-9]|1[0-2])", "date", "", "yyyy mm"),
    "%Y%j": (r"(?:19|20)[0-9]{5}", "date", "year first", "year and day of the year"),
    "%y%j": (r"[0-3][0-9][0-3][0-9]{2}", "date", "year first", "yy and day of the year"),
    "century %y%j": (r"[01][0-9]{5}", "date", "year first", "century, year and day of the year"),
    "century %y%m%d": (r"[01][0-9]{6}", "date", "year first", "century, yymmdd"),
    "%d%m%Y": (r"[0-3]?[0-9][01][0-9](?:19|20)[0-9]{2}", "date", "day first", "ddmmyyyy"),
    "%m%d%Y": (r"[01]?[0-9][0-3][0-9](?:19|20)[0-9]{2}", "date", "month first", "mmddyyyy"),
    "%y%m%d": (r"[0-9]{2}[01][0-9][0-3][0-9]", "date", "year first", "yymmdd"),
    "%d%m%y": (r"[0-3][0-9][01][0-9]{3}", "date", "day first", "ddmmyy"),
    "%m%d%y": (r"[01][0-9][0-3][0-9]{3}", "date", "month first", "mmddyy"),
    "%Y%m%d%H%M%S": (r"(?:19|20)[0-9]{12}", "timestamp", "year first", "yyyymmddhhmmss"),
    "epoch": (r"1[0-9]{9}(?:[0-9]{3})?", "timestamp", "", "seconds since 1970, in UTC"),
    "serial": (r"[1-6][0-9]{4}", "date", "", "day number of a spreadsheet"),
    "serial moment": (
        r"[1-6][0-9]{4}(?:\.[0-9]+)?",
        "timestamp",
        "",
        "day number of a spreadsheet, with the time of day",
    ),
    "%H:%M:%S": (r"[0-9]{1,2}:[0-9]{2}:[0-9]{2}", "time", "", "hh:mm:ss"),
    "%H:%M": (r"[0-9]{1,2}:[0-9]{2}", "time", "", "hh:mm"),
}
OF_MONTHS = (
    "%Y-%m", "%Y/%m", "%Y.%m", "%Y%m", "%m/%Y", "%m-%Y", "%m.%Y", "%YM%m", "%Y-M%m", "%Y %m", "name year",
)  # fmt: skip
"""Forms of whole months, which are told by their first days."""
DOTTED_MONTHS = ("%Y.%m", "%m.%Y")
FIGURES_OF_MONTHS = ("%Y%m", "%Y %m", *DOTTED_MONTHS)
"""Of these, those that may be numbers."""
OF_SIX = ("%y%m%d", "%d%m%y", "%m%d%y")
OF_FIGURES = (
    *OF_SIX, "%d%m%Y", "%m%d%Y", "%Y%j", "%y%j", "century %y%j", "century %y%m%d", "%Y%m%d%H%M%S", "serial",
    "serial moment",
)  # fmt: skip
"""Forms of figures alone, which are days only where a name says so."""
_CLOCKS = {" %H:%M:%S": r" [0-9]{1,2}:[0-9]{2}:[0-9]{2}", " %H:%M": r" [0-9]{1,2}:[0-9]{2}",
           "T%H:%M:%S": r"T[0-9]{2}:[0-9]{2}:[0-9]{2}",
           " %H.%M.%S": r" [0-9]{1,2}\.[0-9]{2}\.[0-9]{2}",
           " %I:%M:%S %p": r" [0-9]{1,2}:[0-9]{2}:[0-9]{2} ?[AaPp][Mm]",
           " %I:%M %p": r" [0-9]{1,2}:[0-9]{2} ?[AaPp][Mm]"}  # fmt: skip
_SHOWN_CLOCKS = {
    " %H:%M:%S": " hh:mm:ss", " %H:%M": " hh:mm", "T%H:%M:%S": "Thh:mm:ss", " %H.%M.%S": " hh.mm.ss",
    " %I:%M:%S %p": " hh:mm:ss am/pm", " %I:%M %p": " hh:mm am/pm",
}  # fmt: skip
for _form, (_pattern, _type, _order, _shown) in list(DATE_FORMS.items())[:14]:
    if _form != "%Y%m%d":
        for _clock, _clock_pattern in _CLOCKS.items():
            DATE_FORMS[_form + _clock] = (
                _pattern + _clock_pattern,
                "timestamp",
                _order,
                _shown + _SHOWN_CLOCKS[_clock],
            )


# ISO 8601 with fractions of a second or a zone: kept as the same moment in UTC, so that rows of
# several zones compare. Without a zone the clock is the client's own.
_ZONE = r"(?:Z|[+-][0-9]{2}(?::?[0-9]{2})?)"
_INSTANT = r"[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]{1,9})?"
DATE_FORMS["zoned"] = (
    rf"{_INSTANT} ?{_ZONE}", "timestamp", "year first", "yyyy-mm-dd hh:mm:ss with a zone, in UTC",
)  # fmt: skip
DATE_FORMS["fraction"] = (
    _INSTANT,
    "timestamp",
    "year first",
    "yyyy-mm-dd hh:mm:ss with fractions of a second",
)

# Months by their names, whole or cut, in small letters without accents; names of Thai have marks
# among their letters, and points among those that are cut.
_NAME = r"(?:[^\W\d_]|[\u0e31-\u0e4e]|\.(?=[\u0e00-\u0e7f])){3,14}\.?"
_BETWEEN = r"[ .\-/,]{0,2}"
_DAY = r"[0-9]{1,2}(?:st|nd|rd|th|\.|º)?"
WEEKDAYS = frozenset(
    [
        "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "mon", "tue", "tues", "wed",
        "thu", "thur", "thurs", "fri", "sat", "sun", "lunes", "martes", "miercoles", "jueves", "viernes", "sabado",
        "domingo", "lun", "mar", "mie", "mier", "jue", "vie", "sab", "dom", "montag", "dienstag", "mittwoch",
        "donnerstag", "freitag", "samstag", "sonnabend", "sonntag", "mo", "di", "mi", "do", "fr", "sa", "so", "lundi",
        "mardi", "mercredi", "jeudi", "vendredi", "samedi", "dimanche", "mer", "jeu", "ven", "sam", "dim", "lunedi",
        "martedi", "mercoledi", "giovedi", "venerdi", "domenica", "gio", "segunda", "terca", "quarta", "quinta",
        "sexta", "maandag", "dinsdag", "woensdag", "donderdag", "vrijdag", "zaterdag", "zondag", "ma", "wo", "vr",
        "za", "zo",
    ]
)  # fmt: skip
"""Small letters without accents; one before a day is left off, where it is no month."""
_OF_WEEK = r"(?:[^\W\d_]{2,14}(?:-feira)?(?:\.,?|,) ?|[^\W\d_]{2,14}(?:-feira)? )?"
_DAY_NAME = (
    rf"{_OF_WEEK}{_DAY}[ .\-/]?(?:de |of |d'|d’)?{_NAME}{_BETWEEN}(?:de |del )?(?:[0-9]{{4}}|[0-9]{{2}})(?: ?[гр]\.?)?",
    "date", "day first", "day, month by its name, year",
)  # fmt: skip
DATE_FORMS["day name"] = _DAY_NAME
DATE_FORMS["day name, Croatian"] = (*_DAY_NAME[:3], "day, month by its Croatian name, year")
DATE_FORMS["name day"] = (
    rf"{_OF_WEEK}{_NAME}[ .\-]?[0-9]{{1,2}}(?:st|nd|rd|th)?,?[ \-][0-9]{{4}}",
    "date", "month first", "month by its name, day, year",
)  # fmt: skip
DATE_FORMS["year name"] = (
    rf"[0-9]{{4}}\.?(?: m\.?)?{_BETWEEN}{_NAME}{_BETWEEN}[0-9]{{1,2}}\.?(?: d\.?)?",
    "date", "year first", "year, month by its name, day",
)  # fmt: skip
DATE_FORMS["name year"] = (
    rf"{_NAME}{_BETWEEN}(?:de |del |of )?(?:19|20)[0-9]{{2}}", "date", "", "month by its name, year",
)  # fmt: skip
for _form, (_pattern, _type, _order, _shown) in list(DATE_FORMS.items()):
    if _type == "date" and _order and _form not in (*OF_MONTHS, *OF_FIGURES):
        DATE_FORMS[_form + clocks.SUFFIX] = (
            f"(?:{_pattern}){clocks.PATTERN}",
            "timestamp",
            _order,
            _shown + " and a time of day",
        )
YEARLESS = {
    "%d/%m": (r"[0-9]{1,2}/[0-9]{1,2}", "date", "day first", "dd/mm"),
    "%m/%d": (r"[0-9]{1,2}/[0-9]{1,2}", "date", "month first", "mm/dd"),
    "%d.%m": (r"[0-9]{1,2}\.[0-9]{1,2}\.?", "date", "day first", "dd.mm."),
    "%d-%m": (r"[0-9]{1,2}-[0-9]{1,2}", "date", "day first", "dd-mm"),
    "%d%m": (r"[0-9]{3,4}", "date", "day first", "ddmm"),
    "day, month": (
        rf"{_DAY}[ .\-/]?(?:de |of |d'|d’)?{_NAME}", "date", "day first", "day, month by its name",
    ),
    "month, day": (
        rf"{_NAME}[ .\-]?[0-9]{{1,2}}(?:st|nd|rd|th)?", "date", "month first", "month by its name, day",
    ),
}  # fmt: skip
"""Forms of days without a year, which is said elsewhere. Those of figures alone may be numbers."""
DATE_FORMS |= YEARLESS
LEADING = ("%d%m%Y", "%m%d%Y")
"""Forms whose first nought a program that took them for numbers left out."""
LEAP = 2000
"""The year of days that have none yet: it has every day."""
