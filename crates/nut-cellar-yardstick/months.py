#!/usr/bin/env python3
"""Write how each language writes a day: crates/nut-cellar-core/src/text/months.txt.

    months.py CODE... > months.txt

The names come from the Unicode Common Locale Data Repository, through the Python package Babel. They are kept as a file
of ours, and not asked for when text is read, because a cellar's terms must not change with the version of a package.
Needs: pip install babel==2.18.0
"""
import re
import sys
from multiprocessing import Pool

from babel import Locale

FIELDS = {"d": "{day}", "M": "{month}", "L": "{month}", "y": "{year}", "G": ""}


def line(code):
    locale = Locale.parse(code)

    def months(context, width):
        return [locale.months[context][width][month].lower() for month in range(1, 13)]

    def field(found):
        if found[1] is not None:
            return found[1]
        return "{number}" if found[2] in ("M", "MM") else FIELDS[found[2][0]]

    # Letters are fields, unless they are quoted.
    form = re.sub(r"'([^']*)'|(([A-Za-z])\3*)", field, locale.date_formats["long"].pattern)
    lists, wide = [], months("format", "wide")
    if wide[0].startswith("1"):
        form = form.replace("{month}", "{number}" + wide[0][1:])
    for names in wide, months("format", "abbreviated"), months("stand-alone", "wide"):
        by_number = all(re.fullmatch(rf"{number}\D*", name) for number, name in enumerate(names, 1))
        if names not in lists and not by_number:
            lists.append(names)
    return "|".join([code, " ".join(form.split())] + [",".join(names) for names in lists])


if __name__ == "__main__":
    print(
        "# How a day is written, by language: the form, the names of the months in it, their abbreviations, and the names\n"
        "# as they stand alone, where they differ. Made by months.py from the Unicode Common Locale Data Repository (Unicode\n"
        "# License v3)."
    )
    # One process a language: Babel mixes up the lists of those that it has seen before.
    with Pool(1, maxtasksperchild=1) as pool:
        print(*pool.map(line, sys.argv[1:], chunksize=1), sep="\n")
