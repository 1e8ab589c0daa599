"""Months by their names in eleven languages, accents folded, whole and cut to three or four letters."""

from __future__ import annotations

MONTHS: dict[str, int] = {}
for _names in (
    "january february march april may june july august september october november december",
    "enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre",
    "januar februar marz april mai juni juli august september oktober november dezember",
    "janvier fevrier mars avril mai juin juillet aout septembre octobre novembre decembre",
    "gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre",
    "janeiro fevereiro marco abril maio junho julho agosto setembro outubro novembro dezembro",
    "januari februari maart april mei juni juli augustus september oktober november december",
    "januari februari mars april maj juni juli augusti september oktober november december",
    "januar februar marts april maj juni juli august september oktober november december",
    "styczen luty marzec kwiecien maj czerwiec lipiec sierpien wrzesien pazdziernik listopad grudzien",
    "stycznia lutego marca kwietnia maja czerwca lipca sierpnia wrzesnia pazdziernika listopada grudnia",
    "gener febrer marc abril maig juny juliol agost setembre octubre novembre desembre",
):
    for _number, _name in enumerate(_names.split(), 1):
        for _length in {3, 4, len(_name)}:
            MONTHS.setdefault(_name[:_length], _number)
MONTHS |= {
    "jan": 1,
    "mrz": 3,
    "maerz": 3,
    "sept": 9,
    "set": 9,
    "dez": 12,
    "ene": 1,
    "abr": 4,
    "ago": 8,
    "dic": 12,
}
