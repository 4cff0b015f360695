"""What people write for nothing, for yes and no, for dates and numbers: each table stands here once."""

from __future__ import annotations

import re

#: words and dates that stand for nothing, in small letters
PLACEHOLDERS = [
    "n/a", "na", "n.a.", "n.d.", "n/d", "s/n", "none", "(none)", "null", "(null)", "nil", "nan", "\\n", "#n/a", "undefined", "tbd", "tba",
    "unknown", "unspecified", "not specified", "not known", "not available", "not applicable", "no data", "missing", "(blank)", "blank",
    "empty", "sem", "sem dados", "sem informação", "não tem", "não especificado", "desconhecido", "desconhecida", "nenhum",
    "unbekannt", "keine", "keine angabe", "k.a.", "k. a.", "ohne", "inconnu", "inconnue", "aucun", "néant", "non renseigné",
    "desconocido", "ninguno", "sin datos", "onbekend", "geen", "sconosciuto", "nessuno",
    "brak", "nieznany", "neznámý", "není", "ismeretlen", "nincs", "ei ole", "ei tietoa", "saknas", "okänd", "ukendt", "ukjent", "puudub", "yok", "bilinmiyor",
    "necunoscut", "άγνωστο", "неизвестно", "нет данных",
    "00/00/0000", "00.00.0000", "00-00-0000", "0000-00-00", "00/00/00", "0000-00-00 00:00:00", "01/01/1900", "01.01.1900", "1900-01-01",
    "1899-12-30", "30/12/1899", "31/12/9999", "31.12.9999", "9999-12-31", "12/31/9999", "99/99/9999", "__/__/____",
]  # fmt: skip
#: a value of these signs alone stands for nothing
SIGNS = " \t-–—_.,?*/\\#~=+:|"
_PLACEHOLDERS = frozenset(PLACEHOLDERS)


def is_placeholder(text: str) -> bool:
    """Whether a text is a word, a date or a row of signs that stands for nothing."""
    return text.lower() in _PLACEHOLDERS or not text.strip(SIGNS)


#: words for yes and no, in pairs, which hardly mean anything else
YES_NO = [
    ("yes", "no"), ("y", "n"), ("true", "false"), ("sim", "não"), ("s", "n"), ("sí", "no"), ("si", "no"), ("sì", "no"), ("oui", "non"), ("ja", "nein"), ("j", "n"),
    ("ja", "nee"), ("ja", "nej"), ("ja", "nei"), ("kyllä", "ei"), ("jah", "ei"), ("igen", "nem"), ("ano", "ne"), ("áno", "nie"), ("tak", "nie"), ("da", "nu"),
    ("da", "ne"), ("taip", "ne"), ("jā", "nē"), ("evet", "hayır"), ("ναι", "όχι"), ("да", "нет"), ("да", "не"),
]  # fmt: skip
#: pairs that mean it where a column has no others
YES_NO_TOO = [
    ("t", "f"), ("1", "0"), ("-1", "0"), ("x", "-"), ("on", "off"), ("active", "inactive"), ("sim", "nao"), ("ativo", "inativo"), ("o", "n"), ("i", "n"),
    ("a", "n"), ("á", "n"), ("t", "n"), ("d", "n"), ("k", "e"), ("e", "h"), ("kylla", "ei"), ("evet", "hayir"), ("ναι", "οχι"), ("ν", "ο"), ("v", "f"), ("w", "f"),
    ("vrai", "faux"), ("wahr", "falsch"), ("waar", "onwaar"), ("vero", "falso"), ("verdadero", "falso"), ("verdadeiro", "falso"), ("sann", "falsk"),
    ("sand", "falsk"), ("sant", "usant"), ("tosi", "epätosi"), ("igaz", "hamis"), ("prawda", "fałsz"), ("pravda", "nepravda"), ("adevărat", "fals"),
    ("doğru", "yanlış"), ("istina", "laž"), ("aktiv", "inaktiv"), ("activo", "inactivo"), ("actif", "inactif"), ("attivo", "inattivo"),
]  # fmt: skip
#: the words that `yesno` knows if it is told none
YES_WORDS, NO_WORDS = "yes|y|true|1|x", "no|n|false|0"

#: patterns of dates, the likelier first
DATES = [
    "yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "dd-MM-yyyy", "MM-dd-yyyy", "yyyy/MM/dd", "yyyyMMdd", "dd/MM/yy", "MM/dd/yy",
    "yyyy.MM.dd.", "yyyy.MM.dd", "d. M. yyyy",
]  # fmt: skip
#: patterns that are seen less often, or could be other things
DATES_TOO = ["dd.MM.yy", "dd-MM-yy", "ddMMyyyy"]
NAMED_DATES = [
    "d MMM yyyy", "d MMMM yyyy", "d-MMM-yyyy", "d. MMMM yyyy", "MMM d, yyyy", "MMMM d, yyyy", "d 'de' MMMM 'de' yyyy",
]  # fmt: skip
#: what stands behind a date where a time follows
TIMES = [" HH:mm", " HH:mm:ss", "'T'HH:mm:ss", "'T'HH:mm", "'T'HH:mm:ssXXX"]
#: the dates with times that a survey knows by name
MOMENTS = ["yyyy-MM-dd HH:mm:ss", "yyyy-MM-dd'T'HH:mm:ss", "dd/MM/yyyy HH:mm", "MM/dd/yyyy HH:mm"]

#: what looks like a number, with signs, units and thousands
NUMBER_LIKE = re.compile(r"[-+(]?[\d.,'\s]*\d[\d.,' ]*\)?-?\s*(?:[€$£%]|EUR)?")
#: what looks like a date, with or without a time
DATE_LIKE = re.compile(
    r"\d{1,4}[-/.] ?\d{1,2}[-/.] ?\d{1,4}\.?(?:[ T]\d{1,2}:\d{2}.*)?|\d{1,2}\.? (?:de )?[A-Za-zç]{3,9}\.? (?:de )?\d{4}|(?:19|20)\d{6}"
)

#: words with which programs say of a record that they took it, and that they did not
TAKEN_WORDS = frozenset(
    [
        "ok",
        "okay",
        "imported",
        "inserted",
        "created",
        "updated",
        "added",
        "new",
        "changed",
        "unchanged",
        "success",
        "succeeded",
        "successful",
        "accepted",
        "done",
        "saved",
        "loaded",
        "processed",
        "taken",
        "passed",
        "valid",
        "importado",
        "criado",
        "atualizado",
        "aceite",
        "aceito",
        "sucesso",
        "importiert",
        "angelegt",
        "aktualisiert",
        "erfolgreich",
        "übernommen",
        "gespeichert",
        "importé",
        "créé",
        "accepté",
        "réussi",
        "creado",
        "actualizado",
        "aceptado",
        "éxito",
        "importato",
        "creato",
        "aggiornato",
        "accettato",
        "geïmporteerd",
        "aangemaakt",
    ]
)
REJECTED_WORDS = frozenset(
    [
        "error",
        "errors",
        "failed",
        "failure",
        "fail",
        "rejected",
        "invalid",
        "refused",
        "denied",
        "skipped",
        "duplicate",
        "ignored",
        "missing",
        "erro",
        "falhou",
        "rejeitado",
        "recusado",
        "inválido",
        "fehler",
        "fehlgeschlagen",
        "abgelehnt",
        "ungültig",
        "erreur",
        "échec",
        "rejeté",
        "refusé",
        "invalide",
        "rechazado",
        "fallido",
        "inválido",
        "errore",
        "rifiutato",
        "fout",
        "mislukt",
        "geweigerd",
    ]
)
