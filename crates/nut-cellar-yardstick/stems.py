#!/usr/bin/env python3
"""Compare our stems with those of the Python package snowballstemmer 3.0.1, word by word.

    stems.py NUT_CELLAR_YARDSTICK CORPORA

CORPORA is a folder with handbook-LL-CC.ndjson files. Every distinct lower-cased word of each is stemmed by both; the
differences are printed. Nothing of the corpora is kept. Needs: pip install snowballstemmer==3.0.1
"""
import glob
import json
import re
import subprocess
import sys
import unicodedata

import snowballstemmer

NAMES = {
    "ar": "arabic", "ca": "catalan", "da": "danish", "de": "german", "el": "greek", "en": "english", "es": "spanish",
    "fr": "french", "id": "indonesian", "it": "italian", "nb": "norwegian", "nl": "dutch", "pt": "portuguese",
    "ro": "romanian", "ru": "russian", "sv": "swedish", "tr": "turkish",
}  # fmt: skip


def main(command, corpora):
    different = 0
    for code, name in NAMES.items():
        paths = sorted(glob.glob(f"{corpora}/handbook-{code}-*.ndjson"))
        words = set()
        for line in (line for path in paths for line in open(path, encoding="utf-8")):
            words.update(word.lower() for word in re.findall(r"[^\W\d_]+", json.loads(line)["body"]))
        # Compatibility forms are folded before we stem; the other side never sees that.
        words = sorted(word for word in words if len(word) < 60 and unicodedata.normalize("NFKC", word) == word)
        ours = subprocess.run([command, "stems", code], input="\n".join(words) + "\n", capture_output=True, text=True)
        stems = ours.stdout.split("\n")[:-1]
        assert len(stems) == len(words), (code, len(stems), len(words))
        theirs = snowballstemmer.stemmer(name)
        wrong = [(word, stem, theirs.stemWord(word)) for word, stem in zip(words, stems) if stem != theirs.stemWord(word)]
        print(f"{name}: {len(words)} words, {len(wrong)} differ", *wrong[:5])
        different += len(wrong)
    sys.exit(different > 0)


if __name__ == "__main__":
    main(*sys.argv[1:])
