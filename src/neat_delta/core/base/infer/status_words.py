"""What the words of a report mean: done, done with a warning, skipped, refused; in eight languages.

Rule: a phrase is read as a whole. What is negated is not done ("nicht importiert", "0 updated"); an error that is
negated is none ("no errors"); what is still to come says nothing ("pending"). Of anything else nobody can tell, and
it is not guessed: `status_of` gives None.
"""

from __future__ import annotations

import re
import unicodedata

from neat_delta.core.base.model.results import RowStatus

__all__ = ["status_of"]


def _words(text: str) -> tuple[str, ...]:
    """Words and phrases with commas between, in small letters without accents; a star stands for any ending."""
    return tuple(" ".join(word.split()) for word in text.split(","))


DONE = _words(
    """
    done, ok, okay, success*, succeed*, imported, updated, created, complete, completed, processed, accepted, saved,
    added, inserted, deleted, removed, passed, applied, written, published, stored, landed, valid, uploaded, loaded,
    modified, finished, erledigt*, erfolg*, importiert*, aktualisiert*, angelegt*, erstellt*, gespeichert*,
    geandert*, ubernommen*, verarbeitet*, hinzugefugt*, geloscht*, fertig*, abgeschlossen*, gultig*, reussi*,
    succes, importe, importee, importes, importees, mis a jour, mise a jour, cree, creee, crees, enregistre*,
    modifie*, ajoute*, supprime*, termine*, traite, traitee, accepte*, effectue*, exito*, correct*, importad*,
    actualizad*, cread*, guardad*, modificad*, anadid*, eliminad*, completad*, procesad*, aceptad*, hecho,
    realizad*, riuscit*, successo, importat*, aggiornat*, creat*, salvat*, modificat*, aggiunt*, eliminat*,
    completat*, elaborat*, accettat*, fatto, eseguit*, gelukt, geslaagd, geimporteerd*, bijgewerkt*, aangemaakt*,
    opgeslagen, gewijzigd*, toegevoegd*, verwijderd*, voltooid*, verwerkt*, geaccepteerd*, klaar, gedaan, sukces*,
    zaimportowan*, zaktualizowan*, utworzon*, zapisan*, zmienion*, dodan*, usuniet*, zakonczon*, przetworzon*,
    przyjet*, wykonan*, gotowe, pomyslnie, klar, klart, lyckad*, lyckats, importera*, uppdatera*, skapad*, skapat*,
    sparad*, sparat*, andrad*, andrat*, tillagd*, tillagt*, borttagen, borttaget, slutford*, bearbeta*, godkand*,
    utford*
    """
)
REFUSED = _words(
    """
    fail*, error*, reject*, refus*, invalid*, denied, aborted, unsuccess*, bad, wrong, missing, incorrect,
    impossible, unable, cancelled, canceled, blocked, disallowed, forbidden, fehlgeschlagen*, fehler*, abgelehnt*,
    abgewiesen*, ungultig*, zuruckgewiesen*, abgebrochen*, gescheitert*, verweigert*, fehlt, falsch*, unmoglich*,
    echoue*, echec*, erreur*, rejet*, invalide*, annule*, manquant*, fallid*, fallo*, rechazad*, imposible,
    cancelad*, denegad*, errores, fallit*, errore, errori, rifiutat*, respint*, impossibile, annullat*, negat*,
    mislukt*, fout, fouten, foutief, geweigerd*, afgewezen, afgekeurd*, ongeldig*, geannuleerd*, blad, bledy,
    bledow, bledu, niepowodzenie, odrzucon*, nieprawidlow*, nieudan*, anulowan*, misslyckad*, misslyckats, fel,
    avvisad*, avvisat*, nekad*, ogiltig*, avbruten, avbrutet
    """
)
SKIPPED = _words(
    """
    skip*, ignor*, unchanged, already, duplicate*, passed over, omitted, ubersprungen*, unverandert*, ausgelassen*,
    bereits, inchange*, saute, sautee, sautes, deja, omitid*, ya, saltat*, invariat*, gia, overgeslagen, genegeerd*,
    ongewijzigd*, reeds, pominiet*, zignorowan*, juz, hoppades over, overhoppad*, oforandrad*, redan
    """
)
WARNED = _words(
    """
    warn*, partial*, partly, teilweise, avertissement*, partiel*, advertencia*, aviso*, parcial*, avviso, avvisi,
    avvertenz*, parzial*, waarschuwing*, gedeeltelijk*, ostrzezeni*, czesciow*, varning*, delvis
    """
)
PENDING = _words(
    """
    pending, queued, waiting, scheduled, processing, running, will, to be, in progress, started, would, planned,
    ausstehend*, wartend*, wartet, geplant*, lauft, wird, in bearbeitung, en attente, en cours, prevu*, pendiente*,
    en curso, en proceso, in attesa, in corso, wachtend*, wacht, in behandeling, oczekuj*, w toku, vantar, pagar,
    pagaende, ready
    """
)
TROUBLE = _words(
    """
    error, errors, fehlern, errore, warning, warnings, problem, problems, issue, issues, failures, fehler,
    probleme*, warnung, warnungen, erreur, erreurs, avertissement*, errores, advertencias, errori, avvisi, fouten,
    problemen, waarschuwing*, bledow, ostrzezen, fel, varningar
    """
)
"""What goes wrong, as a thing: where it is negated, all is well."""

NOT = _words(
    """
    not, no, non, never, without, cannot, nothing, none, false, zero, nor, 0, nicht, kein*, ohne, nie, nichts, pas,
    sans, aucun*, rien, sin, ningun*, nunca, nada, senza, nessun*, mai, niente, niet, geen, zonder, nooit, bez,
    brak, nic, inte, ej, ingen, inga, inget, utan, aldrig
    """
)
WITH = ("with", "mit", "avec", "con", "met", "z", "med")

YES = {"yes", "true", "y", "1", "ja", "oui", "si", "tak", "wahr", "vrai", "verdadero", "vero", "waar", "prawda", "sant"}
NO = {"no", "false", "n", "0", "nein", "non", "nee", "nie", "nej", "falsch", "faux", "falso", "onwaar", "falskt"}
CHANGED = ("changed", "change", "changes", "geandert*", "modifie*", "modificad*", "modificat*", "gewijzigd*",
           "zmienion*", "andrad*", "andrat*")  # fmt: skip
"""What is not done to a row that was so already: it is passed over, and not refused."""

NO_CHANGE = ("no change*", "keine anderung*", "ohne anderung*", "sans changement*", "aucun changement*", "sin cambios",
             "senza modifiche", "geen wijziging*", "bez zmian", "utan andring*", "inga andringar")  # fmt: skip
LONGEST = 200
"""No status is longer, in characters."""


def status_of(word: str) -> RowStatus | None:
    """What a word or a phrase of a status plainly means; None where nobody can tell. A number is a status of HTTP
    (RFC 9110).

    >>> [status_of(word) for word in ("Imported", "nicht importiert", "422", "unchanged", "0 updated", "no errors")]
    ['done', 'refused', 'refused', 'skipped', 'skipped', 'done']
    >>> [status_of(word) for word in ("blue", "pending", "not imported, no errors")]
    [None, None, None]
    """
    plain = _plain(word)
    if re.fullmatch(r"[245][0-9]{2}", plain):
        return "done" if plain[0] == "2" else "refused"
    if plain in YES or plain in NO:
        return "done" if plain in YES else "refused"
    if not plain or len(plain) > LONGEST or _has(plain, PENDING):
        return None
    if _has(plain, NO_CHANGE):
        return "skipped"
    negations = len(_of(NOT).findall(plain)) + len(re.findall(r"\w+n't\b", plain))
    return _negated(plain, negations) if negations else _plainly(plain)


def _plainly(plain: str) -> RowStatus | None:
    """What a phrase means in which nothing is negated."""
    if _has(plain, TROUBLE) and _has(plain, WITH) and _has(plain, DONE):
        return "warned"
    for status, words in MEANINGS:
        if _has(plain, words):
            return status
    return "done" if _has(plain, CHANGED) else None


MEANINGS: tuple[tuple[RowStatus, tuple[str, ...]], ...] = (
    ("warned", WARNED),
    ("refused", REFUSED),
    ("skipped", SKIPPED),
    ("done", DONE),
)
"""In this order, so that "import failed" is refused, and "already imported" skipped."""


def _negated(plain: str, negations: int) -> RowStatus | None:
    """What a phrase means of which so many things are not so."""
    if negations > 1:
        return None
    if _has(plain, TROUBLE):  # it is the trouble that there is none of
        rest = _of(TROUBLE).sub(" ", plain)
        return None if _has(rest, REFUSED) or _has(rest, SKIPPED) else "done"
    if _has(plain, ("0", "zero")) or _has(plain, CHANGED):
        return "skipped" if _has(plain, DONE) or _has(plain, CHANGED) else None
    good, bad = _has(plain, DONE) or _has(plain, FOUND), _has(plain, REFUSED)
    return "refused" if good and not bad else None


FOUND = ("found", "gefunden", "valid*", "possible")


def _plain(word: str) -> str:
    """A phrase in small letters without accents, its words with one space between."""
    text = word.casefold().replace("ß", "ss").replace("ł", "l").replace("ø", "o").replace("’", "'")
    letters = "".join(letter for letter in unicodedata.normalize("NFD", text) if not unicodedata.combining(letter))
    return " ".join(re.findall(r"[\w']+", letters.replace("_", " ")))


def _pattern(words: tuple[str, ...]) -> re.Pattern[str]:
    parts = [re.escape(word.removesuffix("*")) + (r"\w*" if word.endswith("*") else "") for word in words]
    return re.compile(rf"\b(?:{'|'.join(sorted(parts, key=len, reverse=True))})\b")


PATTERNS: dict[tuple[str, ...], re.Pattern[str]] = {}


def _of(words: tuple[str, ...]) -> re.Pattern[str]:
    if words not in PATTERNS:
        PATTERNS[words] = _pattern(words)
    return PATTERNS[words]


def _has(plain: str, words: tuple[str, ...]) -> bool:
    return _of(words).search(plain) is not None
