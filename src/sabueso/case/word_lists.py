"""Words that texts of entries are looked through for, to start with: three lists in English, three in Spanish.

They are facts of every case, as ``facts.words.en_vague``; a plan that has one of that name has its own.
"""

from __future__ import annotations

WORDS: dict[str, list[str]] = {
    "words.en_vague": [
        "sundry", "miscellaneous", "misc", "various", "other", "general", "unspecified", "unknown", "see note",
        "as agreed", "to be clarified", "no document", "consulting", "handling", "gift", "petty",
    ],
    "words.en_pressed": [
        "urgent", "at once", "immediately", "confidential", "do not discuss", "on instruction", "as instructed",
        "requested by", "exception", "override", "bypass", "without approval", "cash only", "off book", "favour",
    ],
    "words.en_undone": [
        "correction", "corrected", "reversal", "reversed", "adjustment", "reclass", "write off", "plug", "true up",
        "catch up", "backdated", "cancelled", "void", "suspense", "clearing",
    ],
    "words.es_vagas": [
        "varios", "diversos", "otros", "genérico", "sin concepto", "sin factura", "desconocido", "por aclarar",
        "según nota", "según lo hablado", "gestiones", "asesoramiento", "atenciones", "obsequio", "menudeo",
    ],
    "words.es_con_prisa": [
        "urgente", "inmediato", "de inmediato", "confidencial", "no comentar", "por orden de", "por instrucción",
        "por indicación", "a petición de", "excepción", "sin autorización", "fuera de procedimiento", "en mano",
        "en efectivo", "favor",
    ],
    "words.es_deshechas": [
        "corrección", "rectificación", "anulación", "anulado", "extorno", "retrocesión", "ajuste", "regularización",
        "reclasificación", "cuadre", "condonación", "fecha anterior", "partida pendiente", "compensación",
    ],
}  # fmt: skip
