"""Cases for matching.py: sources and layouts of several domains and languages, and which column belongs to which field. All values are invented."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from random import Random
from typing import Any

_GIVEN = ["Ana", "Rui", "Marta", "Karl", "Ingrid", "Luc", "Chiara", "Pieter", "Sofia", "Tom", "Elena", "Jan"]
_FAMILY = [
    "Silva",
    "Becker",
    "Dupont",
    "Rossi",
    "Jansen",
    "Moreau",
    "Schmidt",
    "Costa",
    "Vega",
    "Brown",
    "de Vries",
    "Neri",
]
_TOWNS = ["Porto", "Bonn", "Lyon", "Torino", "Utrecht", "Vigo", "Leeds", "Kassel", "Nantes", "Braga"]
_STREETS = ["Rua do Sol", "Hauptstraße", "Rue Verte", "Via Roma", "Kerkstraat", "Calle Mayor", "High Street"]
_THINGS = [
    "Screw M4 x 20",
    "Garden hose 20 m",
    "Lamp, desk",
    "Paint white 5 l",
    "Rope 8 mm",
    "Brush small",
    "Timber 2x4",
]
_JOBS = ["Clerk", "Nurse", "Engineer", "Cook", "Driver", "Manager"]
_COUNTRIES = ["PT", "DE", "FR", "IT", "NL", "ES"]
_NOTES = ["calls on Mondays", "prefers letters", "see the old card", "pays late, ask first", "moved in spring"]


def value_of(kind: str, number: int) -> str:
    """The value of a kind of column in a row: the same in every run."""
    random = Random(f"{kind} {number}")
    pick = random.choice
    day = date(2010, 1, 1) + timedelta(days=random.randint(0, 5000))
    born = date(1940, 1, 1) + timedelta(days=random.randint(0, 25000))
    name, _, more = kind.partition(":")
    match name:
        case "id":
            return f"{more}{1000 + number}"
        case "ref":
            return f"{more}{1000 + random.randint(0, 20)}"
        case "given":
            return pick(_GIVEN)
        case "family":
            return pick(_FAMILY)
        case "comma-name":
            return f"{pick(_FAMILY)}, {pick(_GIVEN)}"
        case "full-name":
            return f"{pick(_GIVEN)} {pick(_FAMILY)}"
        case "firm":
            return f"{pick(_FAMILY)} {pick(['Lda.', 'GmbH', 'SARL', 'S.p.A.', 'Ltd'])}"
        case "street":
            return f"{pick(_STREETS)} {random.randint(1, 99)}"
        case "street-name":
            return pick(_STREETS)
        case "house":
            return str(random.randint(1, 120))
        case "line2":
            return pick(["", "", "2.º Esq.", "Flat 3", "Hof"])
        case "post":
            return {
                "pt": f"{random.randint(1000, 9999)}-{random.randint(100, 999)}",
                "nl": f"{random.randint(1000, 9999)} AB",
            }.get(more, f"{random.randint(10000, 99999)}")
        case "town":
            return pick(_TOWNS)
        case "country":
            return pick(_COUNTRIES)
        case "phone":
            return f"{more or '+351 2'}{random.randint(10**7, 10**8 - 1)}"
        case "email":
            return f"{pick(_GIVEN).lower()}{number}@example.org"
        case "web":
            return f"www.example{number}.com"
        case "day":
            return {
                "iso": f"{day}",
                "dmy": f"{day:%d/%m/%Y}",
                "dot": f"{day:%d.%m.%Y}",
                "mdy": f"{day:%m/%d/%Y}",
                "dash": f"{day:%d-%m-%Y}",
            }[more]
        case "born":
            return {
                "iso": f"{born}",
                "dmy": f"{born:%d/%m/%Y}",
                "dot": f"{born:%d.%m.%Y}",
                "mdy": f"{born:%m/%d/%Y}",
                "dash": f"{born:%d-%m-%Y}",
            }[more]
        case "money":
            return f"{random.randint(100, 99999) / 100:.2f}".replace(".", more or ".")
        case "whole":
            low, high = (int(n) for n in (more or "0-500").split("-"))
            return str(random.randint(low, high))
        case "rate":
            return pick(more.split("/"))
        case "one-of":
            return pick(more.split("/"))
        case "thing":
            return pick(_THINGS)
        case "ean":
            return str(random.randint(10**12, 10**13 - 1))
        case "tax":
            return f"{more}{random.randint(10**8, 10**9 - 1)}"
        case "iban":
            return f"PT50{random.randint(10**20, 10**21 - 1)}"
        case "note":
            return pick([*_NOTES, "", ""])
        case "job":
            return pick(_JOBS)
        case "serial":
            return f"SN{random.randint(10**6, 10**7 - 1)}"
        case "plate":
            return f"{random.randint(10, 99)}-{pick('ABCD')}{pick('XYZ')}-{random.randint(10, 99)}"
        case "year":
            return str(random.randint(1995, 2024))
        case "chip":
            return f"6200{random.randint(10**10, 10**11 - 1)}"
    raise ValueError(kind)


@dataclass(frozen=True)
class Case:
    """A source (heading, kind of value, the field it belongs to or None) and a layout (name, title, datatype)."""

    name: str
    columns: list[tuple[str, str, str | None]]
    fields: list[tuple[str, str, Any]]
    key: str | None = None


def text(most: int = 60) -> dict[str, Any]:
    return {"base": "string", "maxLength": most}


def coded(*codes: str) -> dict[str, Any]:
    return {"base": "string", "format": "|".join(codes)}


DAY, NUMBER, WHOLE, BOOL, S = {"base": "date", "format": "yyyy-MM-dd"}, "decimal", "integer", "boolean", "string"
ADDRESS = [("street", "Street", text()), ("postcode", "Postcode", text(10)), ("city", "City", text())]
PERSON = [
    ("first_name", "First name", text()),
    ("last_name", "Last name", text()),
    *ADDRESS,
    ("phone", "Phone", text(20)),
    ("email", "E-mail", text(80)),
]

TUNED = [
    Case("patients, English to English", [
        ("PatID", "id:P", "patient_no"), ("Surname", "family", "last_name"), ("Forename", "given", "first_name"), ("DOB", "born:dmy", "birth_date"),
        ("Sex", "one-of:M/F", "gender"), ("Addr1", "street", "street"), ("Addr2", "line2", "street"), ("City", "town", "city"), ("PostCode", "post", "postcode"),
        ("Tel Home", "phone", "phone"), ("Mobile No", "phone:9", "mobile"), ("Email Addr", "email", "email"), ("GP", "full-name", "doctor"),
        ("Reg Date", "day:dmy", "registered"), ("Internal Flag", "one-of:0/1", None), ("Comments", "note", "notes"),
    ], [("patient_no", "Patient number", S), *PERSON, ("mobile", "Mobile phone", text(20)), ("birth_date", "Date of birth", DAY), ("gender", "Gender", coded("male", "female")),
        ("doctor", "Doctor", text()), ("registered", "Registered on", DAY), ("notes", "Notes", text(500)), ("allergies", "Allergies", text(200))], "patient_no"),
    Case("customers, Portuguese to English", [
        ("Nº Cliente", "id", "customer_id"), ("Nome", "full-name", "name"), ("Morada", "street", "street"), ("Cód. Postal", "post:pt", "postcode"), ("Localidade", "town", "city"),
        ("Telefone", "phone", "phone"), ("Telemóvel", "phone:9", "mobile"), ("Correio electrónico", "email", "email"), ("NIF", "tax", "tax_id"), ("Saldo", "money:,", "balance"),
        ("Data Registo", "day:dmy", "created"), ("Última Compra", "day:dmy", "last_purchase"), ("Obs.", "note", "remarks"), ("Desconto", "rate:0/5/10", "discount"), ("Zona", "one-of:N/S/C", None),
    ], [("customer_id", "Customer ID", S), ("name", "Name", text()), *ADDRESS, ("phone", "Phone", text(20)), ("mobile", "Mobile", text(20)), ("email", "E-mail", text(80)),
        ("tax_id", "Tax number", S), ("balance", "Balance", NUMBER), ("discount", "Discount %", NUMBER), ("created", "Created on", DAY), ("last_purchase", "Last purchase", DAY),
        ("remarks", "Remarks", text(200)), ("website", "Website", S)], "customer_id"),
    Case("products, German to English", [
        ("ArtNr", "id:A", "sku"), ("Bezeichnung", "thing", "description"), ("Warengruppe", "one-of:10/20/30", "category"), ("EK-Preis", "money:,", "cost_price"), ("VK-Preis", "money:,", "sales_price"),
        ("MwSt-Satz", "rate:7/19", "vat_rate"), ("Lagerbestand", "whole", "stock"), ("Mindestbestand", "whole:1-20", "reorder_level"), ("EAN", "ean", "barcode"), ("Lieferant", "ref:L", "supplier_id"),
        ("Einheit", "one-of:Stk/m/l", "unit"), ("Gewicht", "money:,", "weight"), ("gesperrt", "one-of:J/N", "blocked"), ("Angelegt am", "day:dot", "created"), ("Lagerplatz", "one-of:R1/R2/R3", "location"),
    ], [("sku", "Item code", S), ("description", "Description", text(40)), ("category", "Category", S), ("cost_price", "Purchase price", NUMBER), ("sales_price", "Sales price", NUMBER),
        ("vat_rate", "VAT rate", NUMBER), ("stock", "Stock on hand", WHOLE), ("reorder_level", "Minimum stock", WHOLE), ("barcode", "Barcode", S), ("supplier_id", "Supplier", S), ("unit", "Unit", S),
        ("weight", "Weight (kg)", NUMBER), ("blocked", "Blocked", BOOL), ("created", "Created", DAY), ("location", "Shelf location", S), ("colour", "Colour", S)], "sku"),
    Case("library members, French to English", [
        ("N° lecteur", "id", "member_id"), ("Nom", "family", "last_name"), ("Prénom", "given", "first_name"), ("Date naissance", "born:dmy", "birth_date"), ("Adresse", "street", "street"),
        ("CP", "post", "postcode"), ("Ville", "town", "city"), ("Tél.", "phone:0", "phone"), ("Courriel", "email", "email"), ("Date d'adhésion", "day:dmy", "joined"), ("Fin d'abonnement", "day:dmy", "expires"),
        ("Remarques", "note", "notes"), ("Catégorie", "one-of:A/B/E", "category"), ("Amendes", "money:,", None),
    ], [("member_id", "Member number", S), *PERSON, ("birth_date", "Born", DAY), ("joined", "Member since", DAY), ("expires", "Expiry date", DAY), ("category", "Category", S), ("notes", "Notes", text(300)),
        ("school", "School", S)], "member_id"),
    Case("students, Spanish to Portuguese", [
        ("Matrícula", "id", "numero_aluno"), ("Apellidos", "family", "apelido"), ("Nombre", "given", "nome_proprio"), ("F. Nacimiento", "born:dash", "data_nascimento"), ("Sexo", "one-of:H/M", "sexo"),
        ("Curso", "one-of:1A/1B/2A", "turma"), ("Dirección", "street", "morada"), ("Cód. Postal", "post", "codigo_postal"), ("Población", "town", "localidade"), ("Teléfono", "phone:6", "telefone"),
        ("Correo", "email", "email"), ("Fecha alta", "day:dash", "data_inicio"), ("Observaciones", "note", "observacoes"), ("Beca", "one-of:S/N", None),
    ], [("numero_aluno", "Nº de aluno", S), ("nome_proprio", "Nome próprio", S), ("apelido", "Apelido", S), ("data_nascimento", "Data de nascimento", DAY), ("sexo", "Sexo", coded("M", "F")), ("turma", "Turma", S),
        ("morada", "Morada", S), ("codigo_postal", "Código postal", S), ("localidade", "Localidade", S), ("telefone", "Telefone", S), ("email", "E-mail", S), ("data_inicio", "Data de início", DAY),
        ("observacoes", "Observações", S), ("nacionalidade", "Nacionalidade", S)], "numero_aluno"),
    Case("vehicles, Dutch to English", [
        ("Kenteken", "plate", "plate"), ("Merk", "one-of:Opel/Fiat/Volvo", "make"), ("Model", "one-of:Astra/Panda/V70", "model"), ("Bouwjaar", "year", "year"), ("Brandstof", "one-of:B/D/E", "fuel"),
        ("Kleur", "one-of:rood/blauw/wit", "colour"), ("Km-stand", "whole:1000-200000", "mileage"), ("Klantnr", "ref:K", "customer_id"), ("Datum APK", "day:dash", "inspection_due"), ("Opmerkingen", "note", "remarks"),
        ("Chassisnr", "serial", "vin"),
    ], [("plate", "License plate", S), ("make", "Make", S), ("model", "Model", S), ("year", "Model year", WHOLE), ("fuel", "Fuel", coded("petrol", "diesel", "electric")), ("colour", "Colour", S),
        ("mileage", "Mileage", WHOLE), ("customer_id", "Customer no.", S), ("inspection_due", "Inspection due date", DAY), ("remarks", "Remarks", S), ("vin", "Chassis number", S)], "plate"),
    Case("invoices, German to English", [
        ("RechnungsNr", "id:R", "invoice_no"), ("Kd-Nr", "ref:K", "customer_id"), ("Datum", "day:dot", "invoice_date"), ("Fällig", "day:dot", "due_date"), ("Netto", "money:,", "net"), ("Brutto", "money:,", "gross"),
        ("MwSt", "money:,", "vat_amount"), ("Währung", "one-of:EUR/CHF", "currency"), ("bezahlt am", "day:dot", "paid_on"), ("Text", "note", "description"), ("Sachbearbeiter", "full-name", None),
    ], [("invoice_no", "Invoice number", S), ("customer_id", "Customer", S), ("invoice_date", "Date", DAY), ("due_date", "Due date", DAY), ("net", "Net amount", NUMBER), ("gross", "Gross amount", NUMBER),
        ("vat_amount", "VAT amount", NUMBER), ("currency", "Currency", S), ("paid_on", "Paid on", DAY), ("description", "Description", S), ("payment_terms", "Payment terms", S)], "invoice_no"),
    Case("inventory, terse English", [
        ("ITMNO", "id:I", "item_number"), ("DESC1", "thing", "description"), ("UOM", "one-of:EA/M/L", "unit"), ("QTYOH", "whole", "quantity_on_hand"), ("UCOST", "money", "unit_cost"), ("LPRICE", "money", "list_price"), ("WHSE", "one-of:A/B", "warehouse"), ("BIN", "one-of:A1/B2/C3", "bin_location"),
        ("VENDNO", "ref:V", "vendor_number"), ("LASTRCV", "day:iso", "last_received"), ("ACTV", "one-of:Y/N", "active"), ("UPC", "ean", "barcode"), ("WGT", "money", "weight"),
    ], [("item_number", "Item number", S), ("description", "Description", S), ("unit", "Unit of measure", S), ("quantity_on_hand", "Quantity on hand", WHOLE), ("unit_cost", "Unit cost", NUMBER), ("list_price", "List price", NUMBER),
        ("warehouse", "Warehouse", S), ("bin_location", "Bin location", S), ("vendor_number", "Vendor number", S), ("last_received", "Last received on", DAY), ("active", "Active", BOOL), ("barcode", "Barcode", S), ("weight", "Weight", NUMBER)], "item_number"),
]  # fmt: skip

HELD_OUT = [
    Case("hotel guests, Italian to English", [
        ("Codice cliente", "id:G", "guest_id"), ("Cognome", "family", "last_name"), ("Nome", "given", "first_name"), ("Data di nascita", "born:dmy", "birth_date"), ("Indirizzo", "street", "street"), ("CAP", "post", "postcode"),
        ("Città", "town", "city"), ("Paese", "country", "country"), ("Telefono", "phone:3", "phone"), ("E-mail", "email", "email"), ("Sesso", "one-of:M/F", "gender"), ("Ultimo soggiorno", "day:dmy", None), ("Note", "note", "notes"),
        ("Codice fiscale", "tax:RSS", "tax_id"), ("Lingua", "one-of:IT/EN/DE", "language"),
    ], [("guest_id", "Guest ID", S), *PERSON, ("country", "Country", S), ("birth_date", "Birth date", DAY), ("gender", "Gender", coded("M", "F")), ("notes", "Notes", text(500)), ("tax_id", "Tax ID", S), ("language", "Language", S),
        ("company", "Company", S)], "guest_id"),
    Case("employees, English to German", [
        ("EMP_NO", "id:E", "personalnummer"), ("LAST_NM", "family", "nachname"), ("FIRST_NM", "given", "vorname"), ("HIRE_DT", "day:mdy", "eintrittsdatum"), ("BIRTH_DT", "born:mdy", "geburtsdatum"), ("DEPT", "one-of:FIN/OPS/HR", "abteilung"),
        ("JOB_TITLE", "job", "funktion"), ("MTHLY_SALARY", "money", "gehalt"), ("HOME_PHONE", "phone", "telefon"), ("WORK_EMAIL", "email", "email"), ("MGR_NO", "ref:E", "vorgesetzter"), ("TERM_DT", "day:mdy", None), ("STREET_ADDR", "street", "strasse"),
        ("ZIP", "post", "plz"), ("CITY", "town", "ort"), ("BANK_IBAN", "iban", "iban"),
    ], [("personalnummer", "Personalnummer", S), ("vorname", "Vorname", S), ("nachname", "Nachname", S), ("geburtsdatum", "Geburtsdatum", DAY), ("eintrittsdatum", "Eintrittsdatum", DAY), ("abteilung", "Abteilung", S),
        ("funktion", "Funktion", S), ("gehalt", "Gehalt", NUMBER), ("telefon", "Telefon", S), ("email", "E-Mail", S), ("vorgesetzter", "Vorgesetzter", S), ("strasse", "Straße", S), ("plz", "PLZ", S), ("ort", "Ort", S),
        ("iban", "IBAN", S), ("familienstand", "Familienstand", S)], "personalnummer"),
    Case("animals, Portuguese to English", [
        ("Nº Ficha", "id", "animal_id"), ("Nome do animal", "given", "name"), ("Espécie", "one-of:Cão/Gato", "species"), ("Raça", "one-of:SRD/Siamês/Boxer", "breed"), ("Sexo", "one-of:M/F", "sex"), ("Nasc.", "born:dmy", "birth_date"),
        ("Microchip", "chip", "chip_number"), ("Peso", "money:,", "weight"), ("Pelagem", "one-of:preto/branco/malhado", "coat_colour"), ("Nº Proprietário", "ref:P", "owner_id"), ("Castrado", "one-of:S/N", "neutered"), ("Obs", "note", "notes"),
        ("Foto", "web", None),
    ], [("animal_id", "Animal ID", S), ("owner_id", "Owner ID", S), ("name", "Name", S), ("species", "Species", coded("dog", "cat", "bird")), ("breed", "Breed", S), ("sex", "Sex", coded("M", "F")), ("birth_date", "Birth date", DAY),
        ("chip_number", "Microchip", S), ("weight", "Weight kg", NUMBER), ("coat_colour", "Colour", S), ("neutered", "Neutered", BOOL), ("notes", "Notes", S), ("insurance", "Insurance", S)], "animal_id"),
    Case("suppliers, French to English", [
        ("Code fournisseur", "id:F", "supplier_id"), ("Raison sociale", "firm", "company_name"), ("Adresse 1", "street", "street"), ("Adresse 2", "line2", "street"), ("Code postal", "post", "postcode"), ("Commune", "town", "city"), ("Pays", "country", "country"),
        ("Téléphone", "phone:0", "phone"), ("Site web", "web", "website"), ("Contact", "full-name", "contact_person"), ("Mail contact", "email", "email"), ("SIRET", "tax", "tax_id"), ("IBAN", "iban", "iban"),
        ("Mode de paiement", "one-of:V/C/P", "payment_terms"), ("Devise", "one-of:EUR/USD", "currency"), ("Encours", "money:,", None),
    ], [("supplier_id", "Supplier no.", S), ("company_name", "Company", S), *ADDRESS, ("country", "Country", S), ("phone", "Phone", S), ("email", "E-mail", S), ("website", "Website", S), ("contact_person", "Contact person", S),
        ("tax_id", "VAT number", S), ("iban", "IBAN", S), ("payment_terms", "Payment terms", S), ("currency", "Currency", S), ("blocked", "Blocked", BOOL)], "supplier_id"),
    Case("club members, German to English", [
        ("Mitgliedsnummer", "id", "member_no"), ("Anrede", "one-of:Herr/Frau", "salutation"), ("Vorname", "given", "first_name"), ("Familienname", "family", "last_name"), ("Straße", "street-name", "street"), ("Hausnr.", "house", "street"), ("PLZ", "post", "postcode"), ("Wohnort", "town", "city"),
        ("Geburtstag", "born:dot", "birth_date"), ("Eintritt", "day:dot", "joined"), ("Austritt", "day:dot", "left"), ("Handynummer", "phone:01", "mobile"), ("E-Mail-Adresse", "email", "email"), ("Jahresbeitrag", "money:,", "yearly_fee"), ("Abteilung", "one-of:Tennis/Chor", "section"),
        ("Lastschrift", "one-of:ja/nein", "direct_debit"), ("Bemerkung", "note", "notes"),
    ], [("member_no", "Member no.", S), ("salutation", "Salutation", S), ("first_name", "First name", S), ("last_name", "Last name", S), *ADDRESS, ("birth_date", "Date of birth", DAY), ("joined", "Joined on", DAY), ("left", "Left on", DAY),
        ("mobile", "Mobile", S), ("email", "E-mail", S), ("yearly_fee", "Yearly fee", NUMBER), ("section", "Department", S), ("direct_debit", "Direct debit", BOOL), ("notes", "Notes", S), ("blood_group", "Blood group", S)], "member_no"),
    Case("invoices, Spanish to English", [
        ("Nº Factura", "id:F", "invoice_no"), ("Fecha factura", "day:dmy", "invoice_date"), ("Vencimiento", "day:dmy", "due_date"), ("Cód. cliente", "ref:C", "customer_id"), ("Base imponible", "money:,", None), ("Cuota IVA", "money:,", "vat_amount"), ("Importe total", "money:,", "total"),
        ("Divisa", "one-of:EUR/USD", "currency"), ("Forma de pago", "one-of:T/C", "payment_terms"), ("Pagado", "one-of:S/N", "is_paid"), ("Notas", "note", "notes"), ("Pedido", "ref:P", "order_no"),
    ], [("invoice_no", "Invoice no.", S), ("invoice_date", "Invoice date", DAY), ("due_date", "Due date", DAY), ("customer_id", "Customer ID", S), ("order_no", "Order no.", S), ("vat_amount", "VAT amount", NUMBER), ("total", "Total amount", NUMBER),
        ("currency", "Currency", S), ("payment_terms", "Payment method", S), ("is_paid", "Paid", BOOL), ("notes", "Notes", S)], "invoice_no"),
    Case("patients, Dutch to German", [
        ("Patiëntnummer", "id", "patientennummer"), ("Naam", "comma-name", "nachname+vorname"), ("Geboortedatum", "born:dash", "geburtsdatum"), ("Geslacht", "one-of:M/V", "geschlecht"), ("Straat", "street-name", "strasse"), ("Huisnummer", "house", "hausnummer"), ("Postcode", "post:nl", "plz"), ("Woonplaats", "town", "ort"),
        ("Telefoonnummer", "phone:06", "telefon"), ("E-mailadres", "email", "email"), ("Huisarts", "full-name", "hausarzt"), ("Verzekeraar", "one-of:VGZ/CZ", "krankenkasse"), ("BSN", "tax", "versicherungsnummer"), ("Opmerking", "note", "bemerkung"), ("Ingeschreven", "day:dash", "angelegt_am"),
    ], [("patientennummer", "Patientennummer", S), ("nachname", "Nachname", S), ("vorname", "Vorname", S), ("geburtsdatum", "Geburtsdatum", DAY), ("geschlecht", "Geschlecht", coded("m", "w", "d")), ("strasse", "Straße", S), ("hausnummer", "Hausnummer", S), ("plz", "PLZ", S), ("ort", "Ort", S),
        ("telefon", "Telefon", S), ("email", "E-Mail", S), ("hausarzt", "Hausarzt", S), ("krankenkasse", "Krankenkasse", S), ("versicherungsnummer", "Versicherungsnummer", S), ("bemerkung", "Bemerkung", S), ("angelegt_am", "Angelegt am", DAY), ("beruf", "Beruf", S)], "patientennummer"),
    Case("orders, terse English", [
        ("ORDNO", "id:O", "order_no"), ("CUSTNO", "ref:C", "customer_id"), ("ORDDT", "day:mdy", "order_date"), ("SHPDT", "day:mdy", "shipped_on"), ("ITMCD", "ref:I", "item_code"), ("QTYORD", "whole:1-90", "quantity"),
        ("UNTPRC", "money", "unit_price"), ("DISCPCT", "rate:0/5/10", "discount_percent"), ("SLSREP", "full-name", "sales_rep"), ("STAT", "one-of:O/C/X", "status"), ("CURR", "one-of:EUR/USD", "currency"), ("RMKS", "note", "remarks"),
    ], [("order_no", "Order number", S), ("customer_id", "Customer", S), ("order_date", "Order date", DAY), ("shipped_on", "Shipping date", DAY), ("item_code", "Item code", S), ("quantity", "Quantity", WHOLE), ("unit_price", "Unit price", NUMBER),
        ("discount_percent", "Discount %", NUMBER), ("sales_rep", "Sales representative", S), ("status", "Status", coded("open", "closed", "cancelled")), ("currency", "Currency", S), ("remarks", "Remarks", S), ("warehouse", "Warehouse", S)], "order_no"),
    Case("products, Italian to English", [
        ("Cod. articolo", "id:A", "sku"), ("Descrizione", "thing", "description"), ("Categoria", "one-of:A/B", "category"), ("Prezzo acquisto", "money:,", "cost_price"), ("Prezzo vendita", "money:,", "sales_price"), ("Aliquota IVA", "rate:4/10/22", "vat_rate"),
        ("Giacenza", "whole", "stock"), ("Scorta minima", "whole:1-9", "reorder_level"), ("Codice a barre", "ean", "barcode"), ("Fornitore", "ref:F", "supplier_id"), ("U.M.", "one-of:pz/m", "unit"), ("Peso", "money:,", "weight"), ("Marca", "one-of:Alfa/Beta", "brand"), ("Annotazioni", "note", "notes"),
    ], [("sku", "Item code", S), ("description", "Description", text(60)), ("category", "Category", S), ("cost_price", "Cost price", NUMBER), ("sales_price", "Selling price", NUMBER), ("vat_rate", "VAT rate", NUMBER), ("stock", "In stock", WHOLE),
        ("reorder_level", "Reorder level", WHOLE), ("barcode", "EAN", S), ("supplier_id", "Supplier", S), ("unit", "Unit", S), ("weight", "Weight", NUMBER), ("brand", "Brand", S), ("notes", "Notes", S), ("colour", "Colour", S)], "sku"),
    Case("customers, terse German to English", [
        ("KDNR", "id", "customer_id"), ("FIRMA", "firm", "company_name"), ("ANSPRECHP", "full-name", "contact_person"), ("STRASSE", "street", "street"), ("LAND", "country", "country"), ("PLZ", "post", "postcode"), ("ORT", "town", "city"), ("TELNR", "phone:0", "phone"), ("FAXNR", "phone:0", "fax"),
        ("MAILADR", "email", "email"), ("USTID", "tax:DE", "tax_id"), ("RABATT", "rate:0/3/5", "discount"), ("SPERRKZ", "one-of:J/N", "blocked"), ("ANLDAT", "day:dot", "created"), ("KREDLIMIT", "money:,", "credit_limit"), ("BEMERK", "note", "notes"),
    ], [("customer_id", "Customer number", S), ("company_name", "Company name", S), ("contact_person", "Contact person", S), *ADDRESS, ("country", "Country", S), ("phone", "Phone", S), ("fax", "Fax", S), ("email", "E-mail", S), ("tax_id", "VAT ID", S),
        ("discount", "Discount", NUMBER), ("blocked", "Blocked", BOOL), ("created", "Created on", DAY), ("credit_limit", "Credit limit", NUMBER), ("notes", "Notes", S), ("website", "Website", S)], "customer_id"),
    Case("employees, French to English", [
        ("Matricule", "id:M", "employee_no"), ("Civilité", "one-of:M./Mme", "title"), ("Nom de famille", "family", "last_name"), ("Prénom", "given", "first_name"), ("Né(e) le", "born:dmy", "birth_date"), ("Adresse", "street", "street"), ("Code postal", "post", "postcode"), ("Ville", "town", "city"),
        ("Portable", "phone:06", "mobile"), ("Adresse e-mail", "email", "email"), ("Date d'embauche", "day:dmy", "hired_on"), ("Service", "one-of:Achats/RH", "department"), ("Poste", "job", "job_title"), ("Salaire brut", "money:,", "salary"), ("Responsable", "full-name", "manager"), ("Situation familiale", "one-of:C/M/D", "marital_status"),
    ], [("employee_no", "Employee number", S), ("title", "Title", S), ("first_name", "First name", S), ("last_name", "Last name", S), ("birth_date", "Date of birth", DAY), *ADDRESS, ("mobile", "Mobile", S), ("email", "E-mail", S), ("hired_on", "Hire date", DAY), ("department", "Department", S),
        ("job_title", "Job title", S), ("salary", "Salary", NUMBER), ("manager", "Manager", S), ("marital_status", "Marital status", S), ("iban", "IBAN", S)], "employee_no"),
]  # fmt: skip
