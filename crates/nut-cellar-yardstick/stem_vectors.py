#!/usr/bin/env python3
"""Make the vectors that our stems are tested with: crates/nut-cellar-core/tests/data/stems.lz4.

    stem_vectors.py CORPORA > stems.lz4

CORPORA is a folder with handbook-LL-CC.ndjson files and packages.ndjson. Of each language that has a handbook and a stemmer
in the Python package snowballstemmer 3.0.1, 5,500 different words with their stems: words that stand in the text in small
letters and in no address, and that no package's name begins with, so that they name nobody and nothing. In alphabetical order, no
text can be had back from them.

What it writes is one block of LZ4 behind its length, of lines: the language, then a line for each word, with how many bytes
it shares with the one before, the rest of it, how many bytes its stem keeps of it, and what the stem has instead.
Needs: pip install snowballstemmer==3.0.1 lz4
"""
import glob
import json
import random
import re
import sys
import unicodedata

import lz4.block
import snowballstemmer

from stems import NAMES

WORDS = 5_500
WORD = re.compile(r"(?<![\w@./:_-])[^\W\d_]+(?![\w@/:_-]|\.\w)")


def shared(one, other):
    return next((n for n, (a, b) in enumerate(zip(one, other)) if a != b), min(len(one), len(other)))


def main(corpora):
    with open(f"{corpora}/packages.ndjson", encoding="utf-8") as packages:
        names = {re.split(r"[\W\d_]+", json.loads(line)["key"].lower())[0] for line in packages}
    out = []
    for code, name in NAMES.items():
        words = set()
        for path in glob.glob(f"{corpora}/handbook-{code}-*.ndjson"):
            for line in open(path, encoding="utf-8"):
                words.update(WORD.findall(json.loads(line)["body"]))
        # Compatibility forms are folded before we stem; the other side never sees that.
        words = {
            word
            for word in words - names
            if word == word.lower() == unicodedata.normalize("NFKC", word) and len(word.encode()) < 60
        }
        print(f"{name}: {len(words)} words", file=sys.stderr)
        words = sorted(random.Random(code).sample(sorted(words), WORDS), key=str.encode)
        stemmer = snowballstemmer.stemmer(name)
        out.append(code)
        before = b""
        for word in words:
            stem, word = stemmer.stemWord(word).encode(), word.encode()
            front, kept = shared(before, word), shared(word, stem)
            out.append("\t".join([str(front), word[front:].hex(), str(kept), stem[kept:].hex()]))
            before = word
    sys.stdout.buffer.write(lz4.block.compress("\n".join(out).encode(), mode="high_compression", compression=12))


if __name__ == "__main__":
    main(sys.argv[1])
