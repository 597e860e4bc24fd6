/** Marks a file as ours, in the place SQLite has for it: the characters "Stsh". */
export const applicationId = 0x53747368

/** Raised whenever the tables change in a way that other code cannot read. */
export const formatVersion = 6

/** Times are milliseconds since 1970-01-01T00:00Z, as whole numbers. `tally`, `facts`, `units` and `value` are JSON; `grain` is 0 for a minute, 1 for an hour, 2 for a day, 3 for a month. */
export const createTables = `
  CREATE TABLE IF NOT EXISTS entry (
    key TEXT PRIMARY KEY,
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    head TEXT NOT NULL,
    body BLOB NOT NULL,
    stored_at INTEGER NOT NULL,
    born_at INTEGER NOT NULL,
    fresh_until INTEGER NOT NULL,
    refreshable_until INTEGER NOT NULL,
    usable_until INTEGER NOT NULL,
    keep_until INTEGER NOT NULL,
    must_revalidate INTEGER NOT NULL,
    invalidated INTEGER NOT NULL,
    units TEXT
  );
  CREATE INDEX IF NOT EXISTS entry_keep_until ON entry (keep_until);
  CREATE INDEX IF NOT EXISTS entry_endpoint ON entry (provider, endpoint, stored_at);
  CREATE TABLE IF NOT EXISTS ledger (
    detail INTEGER NOT NULL,
    grain INTEGER NOT NULL,
    bucket INTEGER NOT NULL,
    length INTEGER NOT NULL,
    mode TEXT NOT NULL,
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    tally TEXT NOT NULL,
    PRIMARY KEY (detail, grain, bucket, mode, provider, endpoint)
  ) WITHOUT ROWID;
  CREATE TABLE IF NOT EXISTS facts (
    since INTEGER NOT NULL,
    facts TEXT NOT NULL
  );
  CREATE TABLE IF NOT EXISTS shared_record (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL,
    keep_until INTEGER NOT NULL
  ) WITHOUT ROWID;
  CREATE TABLE IF NOT EXISTS opened (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    at INTEGER NOT NULL
  );
  PRAGMA application_id = ${applicationId};
  PRAGMA user_version = ${formatVersion};
`
