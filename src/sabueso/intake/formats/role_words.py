"""Words of names of columns that tell roles, or deny them, beside those that name a role outright."""

from __future__ import annotations

from sabueso.base.words import CalledSo
from sabueso.intake.formats.header_words import WORDS
from sabueso.population.table import Role

ANY_NUMBER = frozenset(["nr", "nummer", "code", "codigo"])
PER_UNIT = frozenset(["unit", "unitario", "unitaire", "unitaria"])
"""Words of prices where decimals stand, and else of what is one of several."""
PAID = frozenset(["paid", "pay", "payable", "bill", "billed", "sold", "invoiced"])
"""What is followed by whom: ``Paid To``, and not: Paid to Date."""
OF_DOCUMENTS = frozenset(
    ["doc", "no", "nr", "num", "number", "mat", "acc", "acctg", "purch", "sales", "bill", "ref"]
)
"""Words of a name that is a document's number: Mat. Doc., and not: Doc. Currency."""
MONEY = frozenset(WORDS["amount"].split()[:13])
"""Words of amounts that say nothing besides."""
IN_CURRENCY = frozenset(["in", "doc", "document", "local", "cur", "curr", "currency", "lc", "dc"])
"""What a name says of the currency that amounts are in."""
FEES = frozenset(["fee", "fees", "gebuhr", "frais"])
BESIDE = FEES | {"charge", "charges", "ht", "ttc"}
"""Words of what is charged beside an amount, or of how it is with tax and without, where there is one."""
OF_PARTS = frozenset(
    ["freight", "shipping", "postage", "surcharge", "carriage", "versand", "porto", "fracht", "flete", "envio", "frete",
     "ot", "overtime", "other", "bonus", "allowance", "allowances", "deduction", "deductions", "land", "improvement", "outstanding"]
)  # fmt: skip
"""Words of amounts that are a part of another, where there is one."""
OF_TAX = frozenset(["tax", "vat", "gst", "hst", "pst", "iva", "igic", "mwst", "ust", "tva", "btw", "moms", "discount", "duty", "tip"])  # fmt: skip
WITH_OR_WITHOUT = frozenset(["excl", "ex", "incl", "inc", "excluding", "including", "without", "before", "after", "net", "gross", "exclusive", "inclusive", "sin", "con", "sans", "avec", "hors", "ohne", "mit", "total"])  # fmt: skip
"""Words of how much tax an amount has, and of amounts with it or without."""
OF_SOMEBODY = frozenset([*WORDS["party"].split(), "card"])
"""Whose number tells no row apart where it comes again."""
BY = frozenset(["by", "par", "por", "von", "da", "durch", "door", "oleh", "tarafindan", "av", "af"])
ENTERED = frozenset(
    ["entered", "created", "posted", "counted", "recorded", "captured", "logged", "processed", "handled", "keyed", "input", "booked", "saisi", "erfasst", "creado", "registrado", "criado",
     "lancado", "gebucht", "inserito", "made", "dibuat", "diinput", "dicatat", "olusturan", "giren", "bokfort",
     "oprettet", "opprettet", "received", "collected", "issued", "sold", "served", "taken", "raised", "requested", "ordered",
     "disbursed", "completed", "performed", "recibido", "cobrado", "emitido", "vendido", "solicitado", "recu", "encaisse", "emis",
     "vendu", "demande", "erhalten", "kassiert", "ausgestellt", "verkauft", "beantragt", "ricevuto", "incassato", "emesso", "venduto",
     "richiesto", "recebido", "ontvangen", "verkocht", "gezahlt", "gepruft", "atestado", "conferido", "contado", "compte", "contato",
     "geteld"]
)  # fmt: skip
"""What is followed by whoever did it: ``Entered By`` is no time."""
CHANGED = frozenset(["modified", "changed", "updated", "edited", "modificado", "geandert", "modifie", "modificato", "alterado"])  # fmt: skip
OF_A_MASTER = frozenset(
    ["hire", "hired", "birth", "born", "joined", "added", "eintritt", "austritt", "geburt", "naissance", "embauche",
     "nacimiento", "termination", "term", "terminated", "assunzione", "cessazione", "nascita", "admissao", "nascimento",
     "geboorte", "indiensttreding", "zatrudnienia", "urodzenia", "anstallning", "ansaettelse", "onboarded", "onboarding", "cadastro"]
)  # fmt: skip
"""Words of dates that belong to somebody, and to no row of a ledger."""
OF_ANOTHER = frozenset(
    ["account", "cuenta", "konto", "compte", "conto", "conta", "comp", "vendor", "supplier", "customer", "journal",
     "proveedor", "cliente", "lieferant", "kunde", "fournisseur", "client", "employee", "empleado", "bank"]
)  # fmt: skip
"""Whose names are no text of a row, where it has one."""
KINDS = frozenset(
    ["type", "types", "tipo", "typ", "art", "kind", "klasse", "вид", "тип", "种类", "種類", "类型"]
)
"""Words that say of what kind something is, and not which one, where no number is named beside."""
NO_AMOUNT = frozenset(
    ["unit", "unitario", "unitaire", "unitaria", "each", "center", "centre", "centro", "stelle", "code", "number", "rate",
     "percent", "pct", "percentage", "count", "days", "hours", "hrs", "grade", "group", "year", "age", "element", "weight", "kg", "kgs",
     "tons", "tonnes", "lbs", "qty", "quantity", "units", "pieces", "pcs", "area", "m2", "sqm", "score", "points", "volume",
     "miles", "km", "mileage", "litres", "liters", "gallons", "kwh", "minutes", "distance", "gewicht", "menge", "poids", "peso",
     "stunden", "tage", "heures", "jours", "horas", "dias", "old", "new", "previous", "prior", "limit", "average", "avg", "mean", "median", "durchschnitt", "promedio", "moyenne", "running", "cumulative", "cumulated", "cumul", "ytd",
     "acumulado", "kumuliert", "lectura", "reading", "readings", "meter", "ablesung", "zahlerstand", "releve", "lettura", "leitura", "odometer", "kilometraje", "kilometrage"]
)  # fmt: skip
"""Words beside those of amounts by which a number is none of a row."""
STANDING = frozenset(
    ["balance", "opening", "closing", "initial", "final", "apertura", "cierre", "inicial", "eroffnung", "anfang",
     "schluss", "ouverture", "cloture", "iniziale", "finale", "apertura", "chiusura", "abertura", "fechamento"]
)  # fmt: skip
"""Words of what an account stood at before its rows, or stands at after them."""
OF_EXCHANGE = frozenset(
    ["rate", "exchange", "fx", "kurs", "wechselkurs", "cambio", "cotizacion", "tasa", "tipo", "taux", "change", "cours", "tasso", "cotacao", "koers", "kurz", "curs", "arfolyam"]
)  # fmt: skip
"""Words of a column that holds what one unit of a currency is in another."""
OF_LENDING = frozenset(["limit", "rating", "score", "days", "line", "hold", "terms", "utilisation", "utilization"])  # fmt: skip
OF_WHOM = frozenset(
    ["type", "types", "tipo", "typ", "group", "grupo", "gruppe", "groupe", "segment", "segmento", "city", "ciudad", "ort",
     "stadt", "ville", "country", "pais", "land", "pays", "region", "state", "provincia", "zip", "postcode", "postal",
     "plz", "address", "direccion", "adresse", "anschrift", "street", "strasse", "calle", "email", "mail", "phone",
     "telefono", "telefon", "tel", "fax", "mobile", "status", "estado", "statut", "class", "klasse", "clase", "category",
     "categoria", "kategorie", "grade", "department", "departamento", "abteilung", "manager", "since", "terms", "limit",
     "role", "comment", "comments", "length", "tenure", "months", "years", "age", "sex", "gender", "education", "hobbies", "relationship", "marital", "experience", "income", "level", "rating", "language", "contact", "risk", "sector", "industry", "title", "occupation"]
)  # fmt: skip
"""What is told of somebody or something, and does not say who or which: a vendor's country."""
WHO_APPROVES = frozenset(["manager", "level", "department", "contact"])
"""Of these, who approves or enters may be called so: the manager, the first level."""
ORDERS = frozenset(["po", "order", "purchase", "pedido", "bestellung", "bestellnummer", "commande", "ordine", "encomenda", "requisition", "contract"])  # fmt: skip
"""Whose numbers name rows of their own table, and are named by those of others."""
OF_PAPERS = frozenset(
    ["invoice", "inv", "po", "ref", "reference", "factura", "rechnung", "facture", "fattura", "voucher", "cheque", "contract"]
)  # fmt: skip
"""Whose number it is that stands beside a party's word: a customer's order is no customer."""
INVOICES = frozenset(
    ["invoice", "inv", "factura", "rechnung", "rechnungs", "rechnungsnr", "rechnungsnummer", "facture", "fattura", "fatura",
     "factuur", "faktura", "faktury", "fv"]
)  # fmt: skip
"""Papers that whoever is paid has numbered."""
HEADED = frozenset(["invoice", "po", "voucher", "contract"])
"""Of these, those of English: what a name is of comes last in it, so that an invoice's supplier is a supplier."""
PRICES = frozenset(["price", "precio", "preis", "prix", "prezzo", "prijs", "preco", "cena", "pris", "cost", "costo"])  # fmt: skip
EXTENDED = frozenset(["ext", "extd", "extended", "extension", "gesamt", "totale", "totaal", "totalt"])  # fmt: skip
"""Words of a price that is of all that the row counts."""
OF_LISTS = frozenset(["list", "catalogue", "catalog", "standard", "retail", "tarif", "listen"])
"""Words of a price that is asked, and not the one that is paid where that stands beside."""
VALUED = frozenset(["assessed", "assessment", "appraised", "appraisal", "estimated", "insured", "book", "tasacion", "tasado", "catastral", "schatzwert", "estimation", "stima", "avaliado"])  # fmt: skip
TRADED = frozenset(["sale", "sales", "sold", "selling", "purchase", "purchased", "kauf", "verkauf", "verkaufs", "vente", "achat", "venta", "compra", "vendita", "acquisto", "venda"])  # fmt: skip
"""Words of what somebody says that a thing is worth, and of what was paid for it."""
MONEY_BY_NAME = frozenset(WORDS["amount"].split()) - frozenset(
    ["total", "totale", "totaal", "totalt", "gesamt", "sum", "suma", "summe", "somme", "net", "neto", "netto", "gross", "brutto",
     "value", "valor", "wert", "actual", "actuals", "outstanding", "claim", "claimed", "award", "awarded"]
)  # fmt: skip
"""Words of amounts that count nothing else."""
NET_OR_GROSS = frozenset(["net", "neto", "netto", "gross", "brutto"])
QUANTITIES = frozenset(WORDS["quantity"].split())
OF_INTEREST = frozenset(["interest", "tax", "vat", "growth", "discount", "success", "occupancy", "zins", "interes", "interet"])  # fmt: skip
"""Words of rates that are no price."""
COMMISSIONS = frozenset(["commission", "comision", "provision", "commissions"])
OF_WHOLES = frozenset(
    ["amount", "amt", "betrag", "importe", "montant", "importo", "bedrag", "total", "totale", "totaal", "totalt", "gross", "net"]
)  # fmt: skip
"""What a commission is of, or is taken off, where it stands beside."""
NUMBER_WORDS = frozenset(["nr", "no", "num", "number", "numero", "nummer", "id"])
NUMBERS = NUMBER_WORDS | {"code", "codigo", "cod", "codice", "kod", "kodu", "kode", "clave", "key"}
"""Words of a name that is a number, or a code, of somebody."""
OF_PAYEES = (
    frozenset(["supplier", "vendor", "vend", "creditor", "payee", "beneficiary"]),
    frozenset(["customer", "cust", "client", "debtor"]),
    frozenset(["employee", "emp", "worker", "staff"]),
    frozenset(["patient", "member", "insured", "policyholder"]),
    frozenset(["tenant", "lessee", "occupant"]),
    frozenset(["lieferant", "kreditor", "empfanger"]),
    frozenset(["kunde", "kunden", "debitor"]),
    frozenset(["proveedor", "acreedor", "beneficiario"]),
)
"""Words of one and the same party."""
TAX_NUMBERS = frozenset(["cnpj", "cpf", "nif", "cif", "rfc", "ruc", "rut", "nit", "cuit", "siren", "siret", "abn", "pan", "gstin", "kvk", "inn", "инн", "nip", "ico", "oib", "cvr", "orgnr", "afm", "αφμ", "tin", "ein"])  # fmt: skip
"""Words of numbers by which a state tells whoever is paid: one of each."""
BRANCHES = frozenset(["agencia", "sort", "routing", "bic", "swift", "blz", "bankleitzahl", "bsb", "ifsc", "guichet", "abi", "cab"])  # fmt: skip
"""Words of where a bank account is: the account beside is none of the ledger."""
OF_PERSONS = frozenset(["national", "passport", "ssn", "routing", "iban", "bic", "swift", "phone", "mobile", "telephone", "licence", "license", "plate", "telefono", "telefon", "tax", "vat", "ust"])  # fmt: skip
"""Words of numbers that somebody has besides what tells them here."""
OF_BANKS = frozenset(["iban", "bank", "account", "acct", "acc", "konto", "cuenta", "compte", "conto", "tin", "ein", "nif", "cif"])  # fmt: skip
"""Words of numbers that somebody has besides their own."""
MOVED = frozenset(
    ["payment", "payments", "receipt", "receipts", "refund", "refunds", "transfer", "collected", "instalment",
     "installment", "bonus", "disbursement", "disbursements", "remittance", "pago", "pagos", "cobro", "cobros", "zahlung",
     "zahlungen", "paiement", "paiements", "pagamento", "pagamenti", "betaling", "withdrawal", "deposit", "bill", "bills", "disbursed",
     "contribution", "contributions", "drawdown", "remitted", "settled", "recovered", "lent", "cobrado", "pagado", "abonado", "recaudado", "ingresado",
     "desembolsado", "recebido", "arrecadado", "encaisse", "percu", "verse", "regle", "paye", "incassato", "riscosso", "versato", "pagato", "bezahlt",
     "gezahlt", "vereinnahmt", "kassiert", "eingenommen", "betaald", "ontvangen"]
)  # fmt: skip
"""What moves money, and numbers its rows as well: with decimals it is their amount."""
OF_ONE_UNIT = frozenset(
    [*PER_UNIT, "rate", "tarifa", "per", "each", "hourly", "daily", "list", "catalogue", "catalog", "standard", "stock",
     "share", "spot", "close", "open", "pro", "je", "par", "por", "tonne", "ton", "kg", "kilo", "litre", "liter", "litro",
     "unidad", "unite", "stuck", "hour", "heure", "hora", "stunde", "km", "m2", "m3", "kwh", "night", "nuit", "noche"]
)  # fmt: skip
"""Words of a price that is nobody's whole payment."""
OF_EACH = CalledSo(
    r"(?:\b(?:per|por|pro|par|je)\b\s*|/\s*)(?:ha|hect\w*|acre|kg|kilo\w*|km|miles?|m2|m²|m3|m³|sq ?ft|sqm|kwh|mwh|h|hr|hours?|hora|heure|"
    r"stunde|std|day|d[ií]a|tag|jour|night|noche|nuit|nacht|units?|unidad|unit[eé]|st[uü]ck|stk|pcs?|pieces?|pi[eè]ce|each|l|lit[er]{2}s?|litro|"
    r"tonnes?|tons?|t|head|cabeza|person\w*|shares?|pages?|cop(?:y|ies))\b"
)
"""Names of what one of something costs, or earns: ``Importe por ha``."""
NAMES = frozenset(["name", "nombre", "nom", "nome", "naam", "navn", "namn", "nazwa", "nimi", "ad"])
PLAIN_NAMES = frozenset(["full", "legal", "display", "payroll", "worker"])
"""Words of a name that say nothing of whose it is but that somebody's."""
BUYERS = frozenset(
    ["buyer", "requester", "requestor", "requisitioner", "purchaser", "comprador", "einkaufer", "acheteur", "inkoper",
     "salesperson", "salesman", "agent", "agente", "rep", "representative", "dealer", "trader"]
)  # fmt: skip
"""Who buys or sells for the house where the other side stands beside, and is the other side where none does."""
SELLERS = frozenset(["seller", "verkaufer", "vendeur", "venditore", "verkoper", "vendedor"])
OF_THE_HOUSE = frozenset(
    ["employee", "emp", "staff", "worker", "traveller", "traveler", "technician", "empleado", "empleada", "mitarbeiter",
     "mitarbeiterin", "reisender", "salarie", "voyageur", "dipendente", "collaboratore", "werknemer", "medewerker",
     "funcionario", "colaborador", "trabajador", "pracownik", "zamestnanec", "medarbejder", "anstalld", "ansatt",
     "сотрудник", "员工", "社員", "직원"]
)  # fmt: skip
"""Whoever spends or works for the house, where a merchant or a customer stands beside."""
WHICH_OF_THE_HOUSE = OF_THE_HOUSE | NUMBERS | NAMES | {"full", "first", "last", "member"}
JOINING = frozenset(["of", "the", "and", "for", "by", "to", "in", "de", "del", "la", "des", "du", "der", "di", "da", "do"])  # fmt: skip
"""Words that say nothing by themselves."""
IMAGINED = frozenset(["potential", "estimated", "ceiling", "maximum", "expected", "forecast", "projected", "planned", "geschatzt", "geplant", "estimado", "previsto", "prevu", "stimato"])  # fmt: skip
"""Words of what an amount may become, or was thought to be, where there is one that is."""
OF_VALUE = frozenset(
    ["valor", "value", "valuta", "valeur", "wertstellung", "wert", "due", "vencimiento", "vto", "falligkeit", "echeance",
     "scadenza", "vervaldatum", "maturity", "vencimento", "available", "availability"]
)  # fmt: skip
OF_ANOTHER_TIME = frozenset(["earliest", "oldest", "next", "previous"])
"""Words of days that are told of something else than the row: the earliest credit line of whoever borrows."""
OF_SPANS = frozenset(
    ["start", "begin", "beginning", "end", "effective", "expiry", "expiration", "valid", "since", "until", "beginn",
     "anfang", "ende", "inicio", "fin", "debut", "inizio", "fine", "bind", "inception", "slut", "slutt", "einde", "koniec",
     "konec", "fim", "termino", "loppu", *OF_ANOTHER_TIME]
)  # fmt: skip
"""Words of days on which something begins or ends, which need not be when its rows happened."""
IN_FORCE = frozenset(["effective", "valid", "since"])
"""Of these, those of a day on which an entry counts, too."""
OF_RECORDS = frozenset(
    ["entered", "created", "creation", "approved", "modified", "changed", "updated", "uploaded", "imported", "exported",
     "submitted", "erfasst", "angelegt", "geandert", "creado", "creacion", "modificado", "cree", "modifie", "creato",
     "criado", "aangemaakt"]
)  # fmt: skip
"""Words of days on which something was done with the record of what had happened."""
GIVERS = frozenset(
    ["from", "source", "src", "sender", "sending", "orig", "origin", "originator", "originating", "remitter", "payer",
     "debtor", "ordenante", "origen", "remitente", "von", "absender", "quelle", "zahler", "emetteur",
     "mittente", "origem", "pagador"]
)  # fmt: skip
TAKERS = frozenset(
    ["to", "dest", "destination", "receiver", "receiving", "recipient", "beneficiary", "benef", "bene", "target", "creditor",
     "payee", "destino", "destinatario", "beneficiario", "an", "nach", "empfanger", "ziel",
     "destinataire", "beneficiaire", "recebedor"]
)  # fmt: skip
"""Words of the two ends of a transfer."""
HELD = frozenset(
    ["account", "acct", "acc", "iban", "konto", "cuenta", "compte", "conto", "conta", "wallet", "name", "nombre", "nom",
     "nome", "customer", "cliente", "client", "kunde", "party"]
)  # fmt: skip
"""Words of what may be at either end: an account, or whoever holds it."""
OF_AN_END = frozenset(
    ["until", "till", "expires", "expiry", "expiration", "expire", "bis", "ablauf", "gultig", "hasta", "caduca", "caducidad",
     "scadenza", "fino", "jusqu", "jusquau", "echeance", "ate", "validade", "tot", "geldig"]
)  # fmt: skip
"""Words of a day until which something holds, and on which no row happened."""
OF_ENDS: tuple[Role, ...] = ("account", "party", "text")
"""Roles that an end of a transfer may have been taken for."""
OF_SOME_HOURS = frozenset(
    ["extra", "extras", "overtime", "ot", "sup", "supplementaires", "straordinarie", "leave", "sick", "vacation", "holiday",
     "absent", "absence", "idle", "standby", "max", "min", "planned", "budgeted", "target"]
)  # fmt: skip
"""Words beside hours, or what is counted else, by which they are a part of what a row is of, or none of it."""
