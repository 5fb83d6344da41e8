"""What the words of a store's report mean, in eight languages, both ways: said, and said not to be so."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neat_delta.core.base.infer.status_words import status_of

DONE = """
done; OK; success; successful; Imported; imported successfully; updated; created; completed; processed; accepted;
saved; added; deleted; removed; applied; written; published; 200; 201; yes; true; 1; no errors; imported without
errors; 0 errors; finished with no problems; importiert; erfolgreich importiert; aktualisiert; angelegt; gespeichert;
geändert; übernommen; erledigt; keine Fehler; ohne Fehler importiert; ja; importé; réussi; mis à jour; créé;
enregistré; modifié; sans erreur; aucune erreur; oui; importado; actualizado; creado; guardado; completado con éxito;
sin errores; sí; importato; aggiornato; creato; salvato; riuscito; senza errori; nessun errore; geïmporteerd;
bijgewerkt; gelukt; geslaagd; opgeslagen; zonder fouten; geen fouten; ja; zaimportowano; zaktualizowano; utworzono;
zapisano; sukces; bez błędów; brak błędów; tak; importerad; uppdaterad; skapad; sparad; utan fel; inga fel
"""
REFUSED = """
failed; error; rejected; refused; invalid; denied; not imported; not ok; not done; could not be imported; couldn't be
saved; was not updated; cannot be created; import failed; unsuccessful; not found; 400; 422; 500; no; false; 0; never
imported; Fehlgeschlagen; Fehler; abgelehnt; zurückgewiesen; ungültig; nicht importiert; konnte nicht importiert
werden; nein; wurde nicht gespeichert; échoué; échec; erreur; rejeté; refusé; non importé; pas importé; n'a pas été
enregistré; fallido; error; rechazado; no importado; no se ha importado; no válido; fallito; errore; rifiutato;
respinto; non importato; non è stato salvato; mislukt; fout; geweigerd; afgewezen; niet geïmporteerd; kon niet
opgeslagen; nee; błąd; odrzucono; nieprawidłowy; nie zaimportowano; nie zapisano; misslyckades; fel; avvisad; inte
importerad; kunde ej importeras; nej
"""
SKIPPED = """
skipped; ignored; unchanged; not changed; no change; already imported; duplicate; 0 updated; nothing changed;
übersprungen; ignoriert; unverändert; nicht geändert; bereits importiert; ignoré; inchangé; non modifié; déjà importé;
omitido; ignorado; sin cambios; no modificado; ignorato; invariato; non modificato; già importato; overgeslagen;
genegeerd; ongewijzigd; niet gewijzigd; pominięto; zignorowano; bez zmian; nie zmieniono; ignorerad; oförändrad; inte
ändrad; redan importerad
"""
WARNED = """
warning; imported with warnings; partially imported; partly done; done with errors; Warnung; teilweise importiert; mit
Fehlern importiert; avertissement; partiellement importé; advertencia; parcialmente importado; avviso; parzialmente
importato; waarschuwing; gedeeltelijk geïmporteerd; ostrzeżenie; częściowo zaimportowano; varning; delvis importerad
"""
NOBODY_CAN_TELL = """
pending; queued; in progress; will be imported; to be imported; processing; ausstehend; wird importiert; in
Bearbeitung; en attente; en cours; pendiente; en curso; in attesa; in corso; in behandeling; wachtend; oczekuje; w
toku; väntar; pågår; blue; A; D; hidden; visible; n/a; ; -; 302; not rejected; nicht abgelehnt; not imported, no
errors; 12; Beeswax; import
"""


def listed(text: str) -> list[str]:
    return [" ".join(one.split()) for one in text.split(";")]


CASES = [
    *((word, status) for text, status in ((REFUSED, "refused"), (SKIPPED, "skipped"), (WARNED, "warned"))
      for word in listed(text)),
    *((word, "done") for word in listed(DONE)),
    *((word, None) for word in listed(NOBODY_CAN_TELL)),
]  # fmt: skip


@pytest.mark.parametrize("word, status", CASES)
def test_a_phrase_means_what_it_says(word, status):
    for form in (word, word.upper(), word.capitalize(), word.replace(" ", "_"), f"  {word}. "):
        assert status_of(form) == status, form


NEGATIONS = {
    "not {}": "imported updated created saved accepted", "nicht {}": "importiert aktualisiert gespeichert übernommen",
    "pas {}": "importé enregistré créé", "no {}": "importado guardado aceptado", "non {}": "importato salvato",
    "niet {}": "geïmporteerd opgeslagen verwerkt", "nie {}": "zaimportowano zapisano przyjęto",
    "inte {}": "importerad sparad skapad",
}  # fmt: skip


@pytest.mark.parametrize("how", NEGATIONS)
def test_what_is_negated_is_never_done(how):
    for word in NEGATIONS[how].split():
        assert (status_of(word), status_of(how.format(word))) == ("done", "refused")


FILLERS = st.lists(st.sampled_from(["the", "item", "QA-7", "row", "12:04", "was", "wurde", "été", "producto", "riga"]))


@given(FILLERS, FILLERS, st.sampled_from(sorted(NEGATIONS)), st.data())
def test_what_is_negated_is_never_done_whatever_stands_around(before, after, how, data):
    word = how.format(data.draw(st.sampled_from(NEGATIONS[how].split())))
    assert status_of(" ".join([*before, word, *after])) != "done"


@given(st.text(max_size=300))
def test_no_text_breaks_it(text):
    assert status_of(text) in {None, "done", "warned", "skipped", "refused"}
