"""Words of headers in the trade's languages that tell what a column is, as ``folded`` leaves them: small
letters without accents; the most telling first. A header that says something else gets no role.
"""

from __future__ import annotations

import re

from sabueso.population.table import Role

WORDS: dict[Role, str] = {
    "debit": (
        "debit debits debe dr cargo cargos withdrawal withdrawals soll debito addebito addebiti dare debet "
        "belastung ausgaben ausgabe salidas egresos egreso spent outflow uitgaven af winien дебет χρεωση 借方 차변 "
        "مدين חובה borc tartozik duguje breme debetas debets deebet بدهکار เดบิต дт"
    ),
    "credit": (
        "credit credits haber cr abono abonos deposit deposits haben credito accredito accrediti avere crediti "
        "gutschrift einnahmen einnahme entradas ingresos ingreso received inflow inkomsten bij кредит πιστωση 貸方 "
        "贷方 대변 دائن זכות alacak kovetel potrazuje dobro kreditas kredits kreedit kredit بستانکار เครดิต кт"
    ),
    "amount": (
        "amount importe monto amt amnt betrag montant importo bedrag valore waarde wert value valor net neto netto "
        "spend spending obligation actual actuals total totale totaal totalt gesamt gesamtbetrag celkem osszesen razem toplam yhteensa ukupno итого всего συνολο 合計 合计 总额 總額 합계 총액 المجموع الإجمالي gross brutto imponibile imponible presupuesto budget sum suma summe somme umsatz kwota belob belop belopp beloeb summa "
        "castka osszeg tutar quantia jumlah tien сумма сума стоимость ποσο αξια 金額 金额 发生额 發生額 금액 المبلغ סכום "
        "จำนวนเงิน iznos znesek summas مبلغ เงิน paid invoiced billed commission comision provision premium prima pramie prime premio fee fees honorarios gebuhr cost costs coste costo kosten frais charge charges salary sueldo salario gehalt lohn salaire stipendio wage wages pay donation expense expenses gasto gastos aufwand revenue sales erlos recette turnover claim payout notional nominal rent miete loyer alquiler affitto huur pledge pledged outstanding claimed reimbursed quota cuota depreciation abschreibung amortissement ammortamento amortizacion liquido renda aluguel comissao commissione provvigione refund refunds refunded erstattung reembolso remboursement rimborso interest zinsen interes intereses interets interessi juros cash efectivo bargeld contanti especes award awarded banked deposited bruto brut lordo payable pagar payer pagare zahlbetrag auszahlung auszahlungsbetrag utbetaling uitbetaling ht ttc"
    ),
    "quantity": (
        "quantity cantidad qty unidades units litros litres liters menge quantite quantita aantal stuck anzahl "
        "quantidade pezzi hoeveelheid ilosc mnozstvi mennyiseg cantitate miktar antal mangd maara количество "
        "кількість кол ποσοτητα 数量 數量 수량 الكمية כמות จำนวน weight gewicht peso poids kg tons tonnes miles km kwh gallons pieces pcs stunden hours hrs heures horas uren nights nuits noches notti nachte noites"
    ),
    "price": (
        "price precio rate tarifa preis prix prezzo prijs preco cena pret fiyat hinta pris harga цена ціна τιμη "
        "単価 单价 單價 단가 السعر מחיר ราคา unit unitario unitaire unitaria einzelpreis stuckpreis stundensatz stundenlohn uurloon timlon timelon"
    ),
    "date": (
        "date fecha posting posted traded executed occurred transacted day dia booked gebucht geboekt month mes datum data buchungstag buchungsdatum tag valuta monat "
        "giorno jour dag dato tarih paivamaara kelte tanggal tarikh ngay дата день ημερομηνια 日付 取引日 計上日 年月日 日期 "
        "날짜 일자 거래일 التاريخ תאריך วันที่ dt emissao emision"
    ),
    "entered": (
        "entered created creation added submitted time hour hora timestamp registro alta zeit uhrzeit erfasst erfassung angelegt "
        "eingabe eintritt heure saisie ora inserito tijd aangemaakt criado hired hire joined embauche assunzione "
        "создан создано введено 入力日 登録日 录入日期 创建时间 入力日時 등록일 olusturma kayit luotu loodud dibuat"
    ),
    "approver": (
        "approver approved appr confirmed verified witness witnessed vittne testigo zeuge temoin testimone aprobado aprueba autorizado authorised authorized freigeber freigegeben genehmigt "
        "genehmiger freigabe prufer gepruft gegengezeichnet checker reviewer ordenador ordonnateur ordinatore valideur valide approuve approvato autorizzato goedgekeurd aprovado zatwierdzil schvalil "
        "jovahagyta aprobat onaylayan godkand godkendt godkjent hyvaksyja утвердил согласовал 承認者 审核人 審核 审批人 核准 "
        "승인자 המאשר disetujui menyetujui duyet المعتمد ผู้อนุมัติ"
    ),
    "preparer": (
        "preparer prepared prep preparado usuario user cardholder portador karteninhaber operator operador initials contabilizado erfasser erfasst "
        "bearbeiter registado emitido besteller angenommen sachbearbeiter ersteller benutzer buchender utilisateur saisi operatore utente gebruiker "
        "invoerder wprowadzil wystawil uzivatel zapsal felhasznalo rogzitette utilizator kullanici anvandare "
        "bruger bruker kayttaja pengguna lancador usuaria автор пользователь исполнитель ответственный користувач "
        "бухгалтер χρηστησ 担当者 入力者 作成者 起票者 制单人 製單 经办人 經辦人 录入人 操作员 작성자 담당자 입력자 lap المستخدم المحاسب הוקלד הוזן ผู้จัดทำ ผู้บันทึก пользователя kullanan duzenleyen dispatcher disponent clerk cashier teller cajero kassierer caissier adjuster officer actor liquidatore gestore perito responsavel responsable tramitador gestionnaire behandelaar schadenbearbeiter servidor instructeur instructor caseworker assessor underwriter redacteur istruttore "
        "referent sachbearbeiterin signatur handlaggare saksbehandler sagsbehandler nurse earner server waiter waitress barista kellner camarero mesero serveur cameriere garcom ober cashier cassiere kassierer kassiererin caissier caissiere cajero cajera caixa kassier barman bartender bediener peseur weigher wager pesador pesatore weger"
    ),
    "party": (
        "party lieferant fournisseur fornitore leverancier kunde client empfanger beneficiaire supplier vendor "
        "proveedor payee beneficiary beneficiario carrier haulier shipper consignee spediteur transporteur vettore transportista customer cliente employee empleado acreedor counterparty tercero kreditor "
        "debitor mitarbeiter personal salarie dipendente werknemer creditor debtor funcionario crediteur debiteur "
        "kunden fornecedor credor emp tiers aux auxiliaire kontrahent dostawca odbiorca klient nabywca dodavatel "
        "odberatel zakaznik szallito vevo partner furnizor tedarikci musteri cari leverantor kund leverandor "
        "toimittaja asiakas pemasok pelanggan merchant recipient payer contractor provider claimant grantee donor contributor constituent agent broker "
        "контрагент поставщик покупатель клиент получатель постачальник одержувач сотрудник προμηθευτησ πελατησ "
        "取引先 仕入先 得意先 支払先 相手先 供应商 供應商 客户 客戶 往来单位 对方 收款人 员工 거래처 공급업체 고객 직원 المورد العميل ספק לקוח cung khach satici alici dobavljac kupac dobavitelj tiekejas klientas piegadatajs hankija vendedor المستفيد ผู้ขาย ลูกค้า مشتری فروشنده patient member insured policyholder npi tenant locataire mieter inquilino huurder affittuario conduttore arrendatario contraente assicurato assure versicherungsnehmer asegurado tomador student driver guest gast huesped ospite borrower passenger subscriber remitter sender receiver bidder tenderer cust vend cdtr adherent adherente societaire cooperateur cooperador cooperativista socio associado mitglied lid "
        "favorecido adjudicatario adjudicataria contratista contratado perceptor attributaire attributaires aggiudicatario affidatario begunstigde zuwendungsempfanger auftragnehmer "
        "buyer seller purchaser kaufer verkaufer acheteur vendeur comprador acquirente venditore koper verkoper "
        "mp councillor senator deputy diputado diputada concejal abgeordneter depute deputato vereador deputado"
    ),
    "account": (
        "nominal account cuenta acct gl ledger konto compte conto rekening conta ucet szamla hesap tili akun akaun khoan "
        "счет рахунок λογαριασμοσ 勘定科目 科目 계정과목 계정 الحساب חשבון บัญชี fokonyvi element kostenart hesabi saskaita konts konta حساب combination segments"
    ),
    "document": (
        "document beleg belegnummer piece fattura factuur rechnung documento invoice factura voucher reference "
        "referencia ref comprobante nota nf dowod dowodu dokumentu faktura faktury doklad bizonylat belge verifikation verifikat bilag tosite chung "
        "vch protocollo protocolo prot документ накладная παραστατικο τιμολογιο 伝票番号 請求書 凭证 憑證 傳票 单据 發票 发票 전표 증빙 المستند אסמכתא fisi fis evrak bukti เอกสาร سند"
    ),
    "text": (
        "text verwendungszweck buchungstext libelle descrizione causale omschrijving bezeichnung texto "
        "description descripcion concepto memo narrative narration details detail desc descr detalle detalles detalhe dettaglio glosa name nombre nome nom navn namn firma bedrijf ditta historico "
        "lib opis tytulem popis megnevezes kozlemeny explicatii descriere aciklama tekst selite keterangan giai "
        "particulars remarks remark comment comments notes purpose reason назначение описание содержание комментарии наименование призначення опис περιγραφη "
        "αιτιολογια 摘要 内容 備考 备注 備註 说明 적요 비고 내용 البيان תיאור รายละเอียด شرح opisas apraksts kirjeldus รายการ objeto objet oggetto"
    ),
    "currency": "currency curr moneda divisa devise wahrung ccy waluta mena penznem valuutta валюта νομισμα 通貨 币种 幣別 통화 العملة מטבע",
    "id": (
        "id pago payment entry asiento number numero no num codigo code transaction movimiento buchung zahlung "
        "vorgang transaktion ecriture registrazione nr nummer lp cislo sorszam sira lopnummer lobenummer номер "
        "код αριθμοσ κωδικοσ 番号 编号 序号 流水号 編號 번호 رقم מספר sira yevmiye номера เลขที่ ลำดับ شماره"
    ),
}
CURRENCY_WORDS = frozenset(WORDS["currency"].split())
CODE_WORDS = re.compile(
    r"\b(id|code|codigo|no|nbr|slip|ticket|serial|sku|ean|barcode|num|numero|number|iban|bic|nif|cif|vat|tax|phone|telefono|zip|postal|"
    r"cuenta|account|acct|acc|ssn|tin|ein|routing|conta|contas|asiento|entry|factura|invoice|doc|document|documento|mcc|plnt|ref\w*|pago|employee|"
    r"empleado|proveedor|supplier|cliente|customer|usuario|user|nr|konto|konta|kontonr|kontonummer|sachkonto|"
    r"gegenkonto|beleg|belegnr|belegnummer|rechnung|rechnungsnummer|rechnungsnr|kundennr|kundennummer|"
    r"lieferant|lieferantennummer|debitor|kreditor|personalnummer|kostenstelle|center|centre|centro|department|dept|plz|compte|fournisseur|client|"
    r"room|chambre|zimmer|habitacion|quarto|flat|apartment|wohnung|appartement|till|terminal|locker|"
    r"piece|matricule|conto|fattura|fornitore|rekening|rekeningnummer|factuur|leverancier|numer|faktura|"
    r"fakturanr|nip|ucet|cislo|doklad|bilag|voucher|vch|journal|batch|parent|padre|superior|ubergeordnet|номер|код|инн|кпп|бик|"
    r"dni|nit|rut|rfc|curp|cuit|cuil|ruc|cedula|pesel|regon|krs|cpf|cnpj|nino|utr|bsn|kvk|siren|siret|steuernummer|"
    r"steuernr|ustid|ustidnr|svnr|gstin|aadhaar|nric|mrn|personnummer|orgnr|abn|acn|tfn|msisdn|imei|isbn|isin|cusip|"
    r"mobile|movil|handynummer|fax|passport|pasaporte|passeport|"
    r"счет|рахунок|документ|накладная|едрпоу|αριθμοσ|κωδικοσ|αφμ|رقم|מספר|אסמכתא|חשבון|"
    r"\S*(?:番号|号码|號碼|編號|编号|序号|流水号|凭证|憑證|傳票|単据|单据|科目|コード|代码|代碼|번호|코드|전표|계정)\S*)\b"
)
CODE_NAMES = frozenset(
    " ".join(
        WORDS[role] for role in ("account", "document", "party", "preparer", "approver")
    ).split()
)
"""What is called so is one of several, and no quantity, in whatever language."""
RUNNING = frozenset(
    [
        "balance", "saldo", "solde", "saldi", "kontostand", "sold", "zustatek", "egyenleg", "bakiye", "остаток",
        "сальдо", "залишок", "υπολοιπο", "残高", "余额", "餘額", "잔액", "الرصيد", "יתרה", "מאזן", "คงเหลือ", "likutis", "atlikums", "stanje", "مانده",
    ]
)  # fmt: skip
"""What an account stands at after each row."""
UNSPACED = re.compile(r"[\u0e00-\u0e7f\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af]+")
"""Runs of letters that are written without blanks between words."""
_UNSPACED_WORDS = sorted(
    {word for word in (*" ".join(WORDS.values()).split(), *RUNNING) if UNSPACED.fullmatch(word)},
    key=lambda word: (-len(word), word),
)


def within(run: str) -> list[str]:
    """The known words in a run of letters without blanks, none of which is a part of another that is there.

    Examples
    --------
    >>> within("借方金額"), within("伝票番号")
    (['借方', '金額'], ['伝票番号'])
    """
    found: list[str] = []
    for word in _UNSPACED_WORDS:
        if word in run and not any(word in longer for longer in found):
            found.append(word)
    return sorted(found, key=run.index)


_CYRILLIC = [
    word
    for word in dict.fromkeys((*" ".join(WORDS.values()).split(), *RUNNING))
    if "\u0400" <= word[0] < "\u0530" and len(word) >= 4
]


_CASE_LETTERS = frozenset("аеиоуыэюяьіївмхг")
"""Letters that endings of cases are made of."""


def inflected(word: str) -> list[str]:
    """The known words that a word of a Slavic language is a case of.

    Examples
    --------
    >>> inflected("документа"), inflected("кредита"), inflected("датчик")
    (['документ'], ['кредит'], [])
    """
    found = []
    for known in _CYRILLIC:
        stem = known[:-1] if known[-1] in _CASE_LETTERS else known
        rest = word[len(stem) :]
        if (
            word != known
            and word.startswith(stem)
            and len(rest) <= 3
            and set(rest) <= _CASE_LETTERS
        ):
            found.append(known)
    return found


HUNDREDTHS = frozenset(
    ["cents", "centavos", "centimos", "centimes", "centesimi", "pence", "pennies", "paise", "minor"]
)
"""Words of a column whose figures are hundredths of money."""
