#!/usr/bin/env python3
"""Another program, with another SQLite, makes and changes a table; the command finds what it did.

    other-program.py NUT_CELLAR
"""
import json, os, sqlite3, subprocess, sys, tempfile

command = os.path.abspath(sys.argv[1])
folder = tempfile.mkdtemp()
os.chdir(folder)
with open("schema.toml", "w") as f:
    f.write('key = "tag"\n[column.title]\nkind = "text"\nlanguage = "en"\n[column.note]\nkind = "text"\n')

db = sqlite3.connect("app.db", isolation_level=None)
db.execute("CREATE TABLE items(tag TEXT PRIMARY KEY, title TEXT, note TEXT, seat INTEGER UNIQUE)")
db.executemany("INSERT INTO items VALUES (?, ?, ?, ?)", [("q%03d" % n, "walnut box %d" % n, "brass", n) for n in range(200)])


def call(*arguments):
    done = subprocess.run([command, *arguments], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return done.stdout


def found(query):
    return json.loads(call("find", "sqlite:app.db#items", query, "--limit", "1000", "--json"))["total"]


def expect(query, total):
    assert found(query) == total, (query, found(query), total)


call("adopt", "sqlite:app.db#items", "--schema", "schema.toml")
expect("walnut", 200)
db.execute("INSERT INTO items VALUES ('new', 'elm boxes', NULL, 900)")
expect("elm", 1)
db.execute("UPDATE items SET title = 'umbrella' WHERE tag BETWEEN 'q000' AND 'q009'")
expect("umbrellas", 10)
db.execute("DELETE FROM items WHERE tag = 'q150'")
expect("box", 190)
db.execute("REPLACE INTO items VALUES ('q151', 'umbrella', 'took the seat of another', 160)")
expect("walnut", 187)
db.execute("BEGIN")
db.execute("UPDATE items SET title = 'periscope'")
expect("periscope", 0)
db.execute("ROLLBACK")
expect("periscope", 0)
before = [found(query) for query in ("walnut", "elm", "umbrella", "box 7")]
call("sync", "sqlite:app.db#items")
assert before == [found(query) for query in ("walnut", "elm", "umbrella", "box 7")]
call("release", "sqlite:app.db#items")
assert db.execute("SELECT count(*) FROM sqlite_master WHERE name LIKE '%cellar%'").fetchone() == (0,)
print("SQLite", sqlite3.sqlite_version, "in another program: what it changes is found at once")
