"""How often the encoding of a text is guessed rightly: made-up lists of people in many languages and encodings.

    python bench/encodings.py [--files 5]

A guess is right if it reads every byte as it was meant. Where it is not, a build has to say that it rests on a guess that another encoding fits as well.
"""

from __future__ import annotations

import argparse
import random
import tempfile
from collections import Counter
from pathlib import Path

from mudanza.core.sources.decoding import look_at
from mudanza.core.sources.reader import ReadOptions

#: words of a language (names, towns, notes) and the encodings that its programs write
LANGUAGES: dict[str, tuple[str, list[str]]] = {
    "Czech": ("Černá Dvořák Novák Procházka Růžička Šťastný Žák Veselá Říha Jiří Tomáš Lukáš Břeclav Plzeň České Budějovice Ústí nad Labem Kroměříž děkuji platí úhrada faktura", ["cp1250", "cp852", "iso8859-2", "utf-8"]),
    "Polish": ("Wójcik Kowalski Kamińska Łukasz Małgorzata Żak Śliwa Gdańsk Łódź Kraków Wrocław Poznań Częstochowa dziękuję zapłacono źródło ćma ostatnia wizyta", ["cp1250", "cp852", "iso8859-2"]),
    "Hungarian": ("Szabó Kovács Tóth Nagy Győr Pécs Székesfehérvár Kőszeg Hódmezővásárhely István László Ágnes Zoltán köszönöm fizetve üzenet törölve", ["cp1250", "cp852", "iso8859-2"]),
    "Romanian": ("Ionescu Pătraşcu Gheorghiţă Ştefan Brăila Bucureşti Iaşi Constanţa Piteşti Târgu Mureş mulţumesc plătit înregistrare către adresă", ["cp1250", "cp852", "iso8859-2"]),
    "Turkish": ("Yılmaz Öztürk Şahin Çelik Güneş Doğan Ayşe Gülşen İbrahim Diyarbakır İstanbul Kırşehir Muğla ödendi teşekkürler müşteri açıklama", ["cp1254", "cp857"]),
    "Latvian": ("Bērziņš Kalniņa Ozoliņš Jānis Kārlis Pēteris Rēzekne Jūrmala Daugavpils Cēsis paldies samaksāts šķirne vārds", ["cp1257", "iso8859-13"]),
    "Lithuanian": ("Kazlauskas Žukauskienė Jankauskaitė Šiauliai Kėdainiai Panevėžys Klaipėda ačiū sumokėta įrašas ąžuolas", ["cp1257", "iso8859-13"]),
    "German": ("Müller Schäfer Größe Jürgen Günther Köln Düsseldorf Würzburg Straße bezahlt gelöscht Rückfrage Mädchen", ["cp1252", "cp850", "mac_roman"]),
    "French": ("Lefèvre Béatrice François Noël Hélène Orléans Besançon Nîmes Évreux payé supprimé reçu même garçon où cœur", ["cp1252", "cp850", "mac_roman"]),
    "Portuguese": ("João Conceição Gonçalves Araújo Inês Évora Guimarães São João Bragança não pago coração avó três", ["cp1252", "cp850", "mac_roman"]),
    "Spanish": ("Muñoz Ibáñez García Íñigo José Núñez León Cádiz Málaga Logroño señal último niño pagó ¿está?", ["cp1252", "cp850", "mac_roman"]),
    "Swedish": ("Åström Sjögren Björk Märta Göteborg Västerås Malmö Örebro betald återbetalning hämtad", ["cp1252", "cp850", "mac_roman"]),
    "Danish": ("Sørensen Kjær Åse Bjørn Ærø Ålborg Nørrebro Rødovre betalt læge fødselsdag når", ["cp1252", "cp865"]),
    "Greek": ("Παπαδόπουλος Γεωργίου Νικολάου Ελένη Δημήτρης Αθήνα Θεσσαλονίκη Πάτρα Ηράκλειο πληρωμένο ευχαριστώ σκύλος γάτα", ["cp1253", "iso8859-7", "cp737"]),
    "Russian": ("Иванов Смирнова Кузнецов Екатерина Дмитрий Москва Санкт-Петербург Новосибирск оплачено спасибо собака кошка примечание", ["cp1251", "koi8_r", "cp866"]),
    "Bulgarian": ("Иванов Димитрова Георгиев Пловдив Велико Търново Бургас платено благодаря куче котка бележка", ["cp1251"]),
}  # fmt: skip


def text_of(words: list[str], chance: random.Random, rows: int) -> str:
    """A small list of people, with a heading and numbers."""
    lines = ["No;Name;Town;Note"]
    for number in range(rows):
        cells = [" ".join(chance.sample(words, 2)), chance.choice(words), " ".join(chance.sample(words, 3))]
        lines.append(";".join([str(number), *(cell.upper() if chance.random() < 0.05 else cell for cell in cells)]))
    return "\n".join(lines) + "\n"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=5)
    arguments = parser.parse_args()
    right, told, doubted, silent = Counter[str](), Counter[str](), Counter[str](), []
    with tempfile.TemporaryDirectory() as folder:
        for language, (text, encodings) in LANGUAGES.items():
            for encoding in encodings:
                for number in range(arguments.files):
                    chance = random.Random(f"{language} {encoding} {number}")
                    rows = (3, 10, 30, 100, 300)[number % 5]
                    whole = text_of(text.split(), chance, rows)
                    raw = whole.encode(encoding, "ignore")
                    path = Path(folder) / "list.csv"
                    path.write_bytes(raw)
                    found = look_at(path, ReadOptions()).found
                    if raw.decode(found.name, "replace") == raw.decode(encoding):
                        right[language] += 1
                        doubted[language] += bool(found.others)
                    elif found.others:
                        told[language] += 1
                    else:
                        silent.append(f"{language} in {encoding}, {rows} rows: {found.name}")
    total = right.total() + told.total() + len(silent)
    print(
        f"{total} files, {len(LANGUAGES)} languages: {right.total() / total:.1%} guessed rightly, {told.total()} wrongly and told so, "
        f"{len(silent)} wrongly in silence"
    )
    print(f"{doubted.total()} of those guessed rightly say that another encoding fits as well")
    for line in silent:
        print(" ", line)
    for language, count in told.items():
        print(f"  told: {language} {count}")


if __name__ == "__main__":
    main()
