"""The tables of the ledger."""

from __future__ import annotations

#: of the version 6; each statement can be repeated
SCHEMA = """
CREATE TABLE IF NOT EXISTS runs (
  id INTEGER PRIMARY KEY AUTOINCREMENT, command TEXT NOT NULL, subject TEXT NOT NULL, started TEXT NOT NULL,
  ended TEXT, state TEXT NOT NULL, process INTEGER, machine TEXT, as_of TEXT, counts TEXT, read TEXT, written TEXT
);
CREATE TABLE IF NOT EXISTS key_pages (
  book TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, run INTEGER, body BLOB NOT NULL,
  PRIMARY KEY (book, first)
);
CREATE TABLE IF NOT EXISTS pending (run INTEGER NOT NULL, part TEXT NOT NULL, final TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS loans (
  id TEXT PRIMARY KEY, run INTEGER, subject TEXT NOT NULL, lent TEXT NOT NULL, state TEXT NOT NULL, detail TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS changes (
  loan TEXT NOT NULL, subject TEXT NOT NULL, key TEXT NOT NULL, field TEXT NOT NULL, before TEXT, after TEXT,
  accepted TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS surveys (sha256 TEXT NOT NULL, path TEXT NOT NULL, rows INTEGER NOT NULL, moment TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS sent (
  list TEXT NOT NULL, run INTEGER NOT NULL, file TEXT NOT NULL, engine TEXT NOT NULL, body BLOB NOT NULL, PRIMARY KEY (list, run)
);
CREATE TABLE IF NOT EXISTS identities (
  list TEXT NOT NULL, source TEXT NOT NULL, book TEXT NOT NULL, run INTEGER NOT NULL, body BLOB NOT NULL, PRIMARY KEY (list, source, book, run)
);
CREATE TABLE IF NOT EXISTS given (book TEXT NOT NULL, run INTEGER NOT NULL, first INTEGER NOT NULL, PRIMARY KEY (book, run));
CREATE TABLE IF NOT EXISTS kinds (
  list TEXT NOT NULL, source TEXT NOT NULL, run INTEGER NOT NULL, kinds TEXT NOT NULL, PRIMARY KEY (list, source, run)
);
CREATE TABLE IF NOT EXISTS run_values (run INTEGER NOT NULL, name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (run, name));
CREATE TABLE IF NOT EXISTS key_entries (
  book TEXT NOT NULL, run INTEGER NOT NULL, how TEXT NOT NULL, detail TEXT NOT NULL, body BLOB NOT NULL, PRIMARY KEY (book, run)
);
CREATE TABLE IF NOT EXISTS contents (
  list TEXT NOT NULL, run INTEGER NOT NULL, part INTEGER NOT NULL, whole INTEGER NOT NULL, body BLOB NOT NULL, PRIMARY KEY (list, run, part)
);
CREATE TABLE IF NOT EXISTS differences (
  list TEXT NOT NULL, run INTEGER NOT NULL, against TEXT, body BLOB NOT NULL, PRIMARY KEY (list, run)
);
CREATE TABLE IF NOT EXISTS handed_over (
  run INTEGER NOT NULL, list TEXT NOT NULL, build INTEGER NOT NULL, how TEXT NOT NULL, anew INTEGER NOT NULL, moment TEXT NOT NULL, by TEXT, note TEXT,
  counts TEXT NOT NULL, taken_back INTEGER, body BLOB NOT NULL, PRIMARY KEY (run, list)
);
CREATE INDEX IF NOT EXISTS changes_by_key ON changes (subject, key, field);
CREATE TABLE IF NOT EXISTS reserved (book TEXT PRIMARY KEY, last INTEGER NOT NULL, per_group INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS lost (name TEXT PRIMARY KEY, run INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS elsewhere (folder TEXT PRIMARY KEY);
"""
VERSION = 6
