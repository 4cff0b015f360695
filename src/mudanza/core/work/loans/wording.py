"""What a lent workbook says to the people who get it, in the language of the move."""

from __future__ import annotations

from dataclasses import dataclass

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types import DateType, NumberType, TextType, YesNoType
from mudanza.core.values.kinds import Kind


@dataclass(frozen=True)
class Words:
    """The words of one language: of the removal column (its heading and its one word), of the sheet that explains, of the notes on headings."""

    removal: str
    remove: str
    sheet: str
    title: str
    lines: tuple[str, str, str, str, str]
    no_additions: str
    additions: str
    required: str
    optional: str
    default: str
    key: str
    locked: str
    masked: str
    example: str
    text: str
    one_of: str
    whole: str
    number: str
    decimals: str
    date: str
    moment: str
    yes_no: str
    several: str
    exactly: str
    least: str
    most: str
    low: str
    high: str
    removal_note: str
    new_rows: str


WORDS = {
    "en": Words(
        "Remove?", "remove", "How to", "Please correct these records",
        ("Change what is wrong in the white cells. Grey cells are there to be seen.",
         "Sort, filter and hide as you like. Leave the headings as they are.",
         "To have a record removed, choose 'remove' in its last column; do not delete rows.",
         "{additions}",
         "Save the file, under any name, and send it back to the person you have it from."),
        "Records cannot be added here: a new one would also need {fields}.",
        "New records go into the tinted rows below the last one. They need {fields}.",
        "Required.", "May be blank.", "Blank becomes {0}.", "Identifies the record: not to be changed.", "To be seen only.", "Hidden: the real value comes back by itself.",
        "For example: {0}", "Text", "One of: {0}", "A whole number", "A number", "{0} decimals", "A date", "A date and a time", "{0} or {1}", "Several, with {0!r} between them",
        "exactly {0} characters", "at least {0} characters", "at most {0} characters", "from {0}", "up to {0}", "Choose 'remove' to have the record removed. Do not delete rows.", "a new record",
    ),
    "pt": Words(
        "Remover?", "remover", "Como fazer", "Por favor corrija estes registos",
        ("Altere o que está errado nas células brancas. As cinzentas são só para ver.",
         "Pode ordenar, filtrar e ocultar à vontade. Deixe os cabeçalhos como estão.",
         "Para remover um registo, escolha «remover» na última coluna; não apague linhas.",
         "{additions}",
         "Guarde o ficheiro, com qualquer nome, e devolva-o a quem lho enviou."),
        "Aqui não se podem acrescentar registos: um novo precisaria também de {fields}.",
        "Os registos novos vão nas linhas coloridas abaixo da última. Precisam de {fields}.",
        "Obrigatório.", "Pode ficar vazio.", "Vazio passa a {0}.", "Identifica o registo: não alterar.", "Só para ver.", "Oculto: o valor verdadeiro volta por si.",
        "Por exemplo: {0}", "Texto", "Um de: {0}", "Um número inteiro", "Um número", "{0} casas decimais", "Uma data", "Uma data e uma hora", "{0} ou {1}", "Vários, separados por {0!r}",
        "exatamente {0} caracteres", "pelo menos {0} caracteres", "no máximo {0} caracteres", "a partir de {0}", "até {0}", "Escolha «remover» para remover o registo. Não apague linhas.", "um registo novo",
    ),
    "es": Words(
        "¿Eliminar?", "eliminar", "Instrucciones", "Por favor, corrija estos registros",
        ("Cambie lo que esté mal en las celdas blancas. Las grises son solo para ver.",
         "Puede ordenar, filtrar y ocultar como quiera. Deje los encabezados como están.",
         "Para eliminar un registro, elija «eliminar» en la última columna; no borre filas.",
         "{additions}",
         "Guarde el archivo, con cualquier nombre, y devuélvalo a quien se lo envió."),
        "Aquí no se pueden añadir registros: uno nuevo necesitaría además {fields}.",
        "Los registros nuevos van en las filas coloreadas debajo de la última. Necesitan {fields}.",
        "Obligatorio.", "Puede quedar vacío.", "Vacío pasa a ser {0}.", "Identifica el registro: no se cambia.", "Solo para ver.", "Oculto: el valor verdadero vuelve solo.",
        "Por ejemplo: {0}", "Texto", "Uno de: {0}", "Un número entero", "Un número", "{0} decimales", "Una fecha", "Una fecha y una hora", "{0} o {1}", "Varios, separados por {0!r}",
        "exactamente {0} caracteres", "al menos {0} caracteres", "como máximo {0} caracteres", "desde {0}", "hasta {0}", "Elija «eliminar» para eliminar el registro. No borre filas.", "un registro nuevo",
    ),
    "fr": Words(
        "Supprimer ?", "supprimer", "Mode d'emploi", "Merci de corriger ces fiches",
        ("Modifiez ce qui est faux dans les cellules blanches. Les grises sont là pour être vues.",
         "Triez, filtrez et masquez à votre guise. Laissez les en-têtes tels quels.",
         "Pour supprimer une fiche, choisissez « supprimer » dans la dernière colonne ; n'effacez pas de lignes.",
         "{additions}",
         "Enregistrez le fichier, sous n'importe quel nom, et renvoyez-le à la personne qui vous l'a transmis."),
        "On ne peut pas ajouter de fiches ici : il y faudrait aussi {fields}.",
        "Les nouvelles fiches vont dans les lignes teintées sous la dernière. Il leur faut {fields}.",
        "Obligatoire.", "Peut rester vide.", "Vide devient {0}.", "Identifie la fiche : à ne pas modifier.", "Pour information seulement.", "Masqué : la vraie valeur revient d'elle-même.",
        "Par exemple : {0}", "Texte", "Au choix : {0}", "Un nombre entier", "Un nombre", "{0} décimales", "Une date", "Une date et une heure", "{0} ou {1}", "Plusieurs, séparés par {0!r}",
        "exactement {0} caractères", "au moins {0} caractères", "au plus {0} caractères", "à partir de {0}", "jusqu'à {0}", "Choisissez « supprimer » pour supprimer la fiche. N'effacez pas de lignes.", "une nouvelle fiche",
    ),
    "de": Words(
        "Löschen?", "löschen", "Anleitung", "Bitte diese Datensätze berichtigen",
        ("Ändern Sie in den weißen Zellen, was falsch ist. Die grauen sind nur zum Ansehen.",
         "Sortieren, filtern und blenden Sie aus, wie Sie mögen. Lassen Sie die Überschriften stehen.",
         "Soll ein Datensatz gelöscht werden, wählen Sie »löschen« in der letzten Spalte; löschen Sie keine Zeilen.",
         "{additions}",
         "Speichern Sie die Datei, unter beliebigem Namen, und senden Sie sie an den Absender zurück."),
        "Hier können keine Datensätze hinzukommen: ein neuer brauchte auch {fields}.",
        "Neue Datensätze kommen in die getönten Zeilen unter dem letzten. Sie brauchen {fields}.",
        "Pflichtfeld.", "Darf leer sein.", "Leer wird zu {0}.", "Kennzeichnet den Datensatz: nicht ändern.", "Nur zum Ansehen.", "Verborgen: der wahre Wert kommt von selbst zurück.",
        "Zum Beispiel: {0}", "Text", "Eines von: {0}", "Eine ganze Zahl", "Eine Zahl", "{0} Nachkommastellen", "Ein Datum", "Ein Datum mit Uhrzeit", "{0} oder {1}", "Mehrere, getrennt durch {0!r}",
        "genau {0} Zeichen", "mindestens {0} Zeichen", "höchstens {0} Zeichen", "ab {0}", "bis {0}", "Wählen Sie »löschen«, um den Datensatz löschen zu lassen. Löschen Sie keine Zeilen.", "ein neuer Datensatz",
    ),
}  # fmt: skip
LANGUAGES = tuple(WORDS)


def in_any_language(which: str) -> frozenset[str]:
    """A word of all languages, in small letters without their signs."""
    return frozenset(getattr(one, which).casefold().strip(" ?¿") for one in WORDS.values())


def kind_in_words(field: Field, words: Words) -> str:
    """What a field takes: its kind, its length or bounds, the permitted values."""
    takes = field.type
    if isinstance(takes, YesNoType):
        return words.yes_no.format(takes.format.yes[0], takes.format.no[0])
    if isinstance(takes, TextType):
        kind = words.one_of.format(", ".join(takes.permitted)) if takes.permitted else words.text
        limits = ((takes.length, words.exactly), (takes.min_length, words.least), (takes.max_length, words.most))
        parts = [kind, *(form.format(limit) for limit, form in limits if limit is not None)]
    elif isinstance(takes, NumberType):
        places = takes.format.max_fraction
        parts = [words.whole if places == 0 else words.number]
        if places:
            parts.append(words.decimals.format(places))
        parts += _bounds(takes, words)
    elif isinstance(takes, DateType):
        parts = [words.moment if takes.kind is Kind.DATETIME else words.date, *_bounds(takes, words)]
    else:
        parts = [field.rule]
    if field.separator is not None:
        parts.append(words.several.format(field.separator))
    return ", ".join(parts)


def _bounds(takes: NumberType | DateType, words: Words) -> list[str]:
    bounds = takes.bounds
    least = [words.low.format(bounds.least.said)] if bounds.least is not None else []
    return least + ([words.high.format(bounds.most.said)] if bounds.most is not None else [])
