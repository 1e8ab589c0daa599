"""Months by their names in some thirty languages, small letters without accents, whole and cut to three or
four letters where a cut is one month's alone."""

from __future__ import annotations

import unicodedata

_NAMES = (
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
    "leden unor brezen duben kveten cerven cervenec srpen zari rijen listopad prosinec",
    "ledna unora brezna dubna kvetna cervna cervence srpna zari rijna listopadu prosince",
    "januar februar marec april maj jun jul august september oktober november december",
    "januar februar marec april maj junij julij avgust september oktober november december",
    "januar februar marcius aprilis majus junius julius augusztus szeptember oktober november december",
    "ianuarie februarie martie aprilie mai iunie iulie august septembrie octombrie noiembrie decembrie",
    "ocak subat mart nisan mayis haziran temmuz agustos eylul ekim kasim aralik",
    "jaanuar veebruar marts aprill mai juuni juuli august september oktoober november detsember",
    "janvaris februaris marts aprilis maijs junijs julijs augusts septembris oktobris novembris decembris",
    "sausis vasaris kovas balandis geguze birzelis liepa rugpjutis rugsejis spalis lapkritis gruodis",
    "januari februari maret april mei juni juli agustus september oktober november desember",
    "januari februari mac april mei jun julai ogos september oktober november disember",
    "январь февраль март апрель май июнь июль август сентябрь октябрь ноябрь декабрь",
    "января февраля марта апреля мая июня июля августа сентября октября ноября декабря",
    "січень лютий березень квітень травень червень липень серпень вересень жовтень листопад грудень",
    "січня лютого березня квітня травня червня липня серпня вересня жовтня листопада грудня",
    "януари февруари март април май юни юли август септември октомври ноември декември",
    "ιανουαριος φεβρουαριος μαρτιος απριλιος μαιος ιουνιος ιουλιος αυγουστος σεπτεμβριος οκτωβριος νοεμβριος "
    "δεκεμβριος",
    "ιανουαριου φεβρουαριου μαρτιου απριλιου μαιου ιουνιου ιουλιου αυγουστου σεπτεμβριου οκτωβριου νοεμβριου "
    "δεκεμβριου",
    "يناير فبراير مارس ابريل مايو يونيو يوليو اغسطس سبتمبر اكتوبر نوفمبر ديسمبر",
    "ינואר פברואר מרץ אפריל מאי יוני יולי אוגוסט ספטמבר אוקטובר נובמבר דצמבר",
    "มกราคม กุมภาพันธ์ มีนาคม เมษายน พฤษภาคม มิถุนายน กรกฎาคม สิงหาคม กันยายน ตุลาคม พฤศจิกายน ธันวาคม",
)
_WHOLE = (
    "tammikuu helmikuu maaliskuu huhtikuu toukokuu kesakuu heinakuu elokuu syyskuu lokakuu marraskuu joulukuu",
    "tammikuuta helmikuuta maaliskuuta huhtikuuta toukokuuta kesakuuta heinakuuta elokuuta syyskuuta lokakuuta "
    "marraskuuta joulukuuta",
    "tammi helmi maalis huhti touko kesa heina elo syys loka marras joulu",
    "ม.ค ก.พ มี.ค เม.ย พ.ค มิ.ย ก.ค ส.ค ก.ย ต.ค พ.ย ธ.ค",
)
"""Names that are not cut: ``mar`` is March elsewhere, and marraskuu is November."""
_CROATIAN = (
    "sijecanj veljaca ozujak travanj svibanj lipanj srpanj kolovoz rujan listopad studeni prosinac",
    "sijecnja veljace ozujka travnja svibnja lipnja srpnja kolovoza rujna listopada studenoga prosinca",
)


def folded_month(text: str) -> str:
    """Small letters without accents, as names of months are looked up by.

    Examples
    --------
    >>> folded_month("Février"), folded_month("Ağustos"), folded_month("Aralık")
    ('fevrier', 'agustos', 'aralik')
    """
    if text.isascii():
        return text.lower()
    plain = unicodedata.normalize("NFKD", text.casefold().replace("ı", "i"))
    return "".join(c for c in plain if not unicodedata.combining(c) or c >= "\u0e00")


def _of(*lists: str, cut: bool) -> dict[str, int]:
    """Names and their cuts; a cut that two months of a language share is neither's."""
    found: dict[str, int] = {}
    for names in lists:
        own: dict[str, set[int]] = {}
        for number, name in enumerate(folded_month(names).split(), 1):
            for length in {3, 4, len(name)} if cut else {len(name)}:
                own.setdefault(name[:length], set()).add(number)
        for word, numbers in own.items():
            if len(numbers) == 1:
                found.setdefault(word, *numbers)
    return found


MONTHS = _of(*_NAMES, cut=True) | _of(*_WHOLE, cut=False)
MONTHS |= {"mrz": 3, "maerz": 3, "sept": 9, "szept": 9, "set": 9}
CROATIAN_MONTHS = _of(*_CROATIAN, cut=True)
"""Apart: *listopad* is October there, and November in Polish and Czech."""
