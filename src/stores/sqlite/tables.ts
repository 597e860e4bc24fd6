/** Marks a file as ours, in the place SQLite has for it: the characters "Stsh". */
export const applicationId = 0x53747368

/** Raised whenever the tables change in a way that other code cannot read. */
export const formatVersion = 11

const entryTimes = ['stored_at', 'born_at', 'fresh_until', 'refreshable_until', 'usable_until', 'keep_until']

/** A view of a table for people, in any tool: times are text as in RFC 3339, bodies are text where they are. */
function readable(view: string, table: string, columns: readonly string[], times: readonly string[], others: readonly string[]): string {
  const asText = times.map((time) => `strftime('%Y-%m-%dT%H:%M:%fZ', ${time} / 1000.0, 'unixepoch') AS ${time}`)
  return `CREATE VIEW IF NOT EXISTS ${view} AS SELECT ${[...columns, ...asText, ...others].join(', ')} FROM ${table};`
}

/**
 * Uses of entries are numbered by `entry_total.uses`: the id of an entry is the number of its first, `entry_use.used` that of its latest, where
 * there was another; `uses` how often it was given as an answer since it was stored, of that `saved` in place of a call, and `used_at` when last. `entry_total` also says what there is in all, `endpoint_total` how many entries of each endpoint; triggers keep both true. `evicted` remembers keys, by a digest, of entries
 * that were dropped while they were fresh. `adopted` names the stores, by `store.id`, whose counts and records this one took over.
 *
 * `entry_label` finds entries by their labels, which triggers keep true. `claim` says which key is being asked for, with which labels (null where only the
 * answer says), until when, and how that ended; `showing` which of these answers are shown to others while they arrive, and are watched, with their
 * pieces in `shown_piece`; `opener` which stores have the file open; `store.removals` counts how often
 * entries were removed or invalidated while several had.
 *
 * Times are milliseconds since 1970-01-01T00:00Z, as whole numbers. `tally`, `facts`, `units`, `labels` and `value` are JSON; `grain` is 0 for a minute, 1
 * for an hour, 2 for a day, 3 for a month.
 */
export const createTables = `
  CREATE TABLE IF NOT EXISTS entry (
    id INTEGER PRIMARY KEY,
    key TEXT NOT NULL UNIQUE,
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    stored_at INTEGER NOT NULL,
    born_at INTEGER NOT NULL,
    fresh_until INTEGER NOT NULL,
    refreshable_until INTEGER NOT NULL,
    usable_until INTEGER NOT NULL,
    keep_until INTEGER NOT NULL,
    must_revalidate INTEGER NOT NULL,
    invalidated INTEGER NOT NULL,
    units TEXT,
    labels TEXT,
    price TEXT,
    head TEXT NOT NULL,
    body BLOB NOT NULL
  );
  CREATE INDEX IF NOT EXISTS entry_keep_until ON entry (keep_until);
  CREATE INDEX IF NOT EXISTS entry_endpoint ON entry (provider, endpoint);
  CREATE TABLE IF NOT EXISTS entry_label (
    label TEXT NOT NULL,
    id INTEGER NOT NULL,
    PRIMARY KEY (label, id)
  ) WITHOUT ROWID;
  CREATE INDEX IF NOT EXISTS entry_label_id ON entry_label (id);
  CREATE TRIGGER IF NOT EXISTS entry_labelled AFTER INSERT ON entry WHEN new.labels IS NOT NULL BEGIN
    INSERT OR IGNORE INTO entry_label (label, id) SELECT value, new.id FROM json_each(new.labels);
  END;
  CREATE TRIGGER IF NOT EXISTS entry_relabelled AFTER UPDATE OF labels ON entry WHEN new.labels IS NOT old.labels BEGIN
    DELETE FROM entry_label WHERE id = old.id;
    INSERT OR IGNORE INTO entry_label (label, id) SELECT value, new.id FROM json_each(new.labels);
  END;
  CREATE TRIGGER IF NOT EXISTS entry_unlabelled AFTER DELETE ON entry WHEN old.labels IS NOT NULL BEGIN
    DELETE FROM entry_label WHERE id = old.id;
  END;
  CREATE TABLE IF NOT EXISTS entry_use (
    id INTEGER PRIMARY KEY,
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    used INTEGER NOT NULL,
    uses INTEGER NOT NULL DEFAULT 0,
    saved INTEGER NOT NULL DEFAULT 0,
    used_at INTEGER NOT NULL DEFAULT 0
  );
  CREATE INDEX IF NOT EXISTS entry_use_used ON entry_use (used);
  CREATE INDEX IF NOT EXISTS entry_use_endpoint ON entry_use (provider, endpoint, used);
  CREATE TABLE IF NOT EXISTS entry_total (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    entries INTEGER NOT NULL,
    bytes INTEGER NOT NULL,
    uses INTEGER NOT NULL
  );
  INSERT OR IGNORE INTO entry_total (one, entries, bytes, uses) VALUES (1, 0, 0, 0);
  CREATE TABLE IF NOT EXISTS endpoint_total (
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    entries INTEGER NOT NULL,
    PRIMARY KEY (provider, endpoint)
  ) WITHOUT ROWID;
  CREATE TRIGGER IF NOT EXISTS entry_added AFTER INSERT ON entry BEGIN
    UPDATE entry_total SET entries = entries + 1, bytes = bytes + new.bytes, uses = max(uses, new.id);
    INSERT INTO endpoint_total (provider, endpoint, entries) VALUES (new.provider, new.endpoint, 1)
      ON CONFLICT (provider, endpoint) DO UPDATE SET entries = entries + 1;
  END;
  CREATE TRIGGER IF NOT EXISTS entry_replaced AFTER UPDATE OF body ON entry BEGIN
    UPDATE entry_total SET bytes = bytes - old.bytes + new.bytes, uses = uses + 1;
    DELETE FROM entry_use WHERE id = new.id;
    INSERT INTO entry_use (id, provider, endpoint, used) SELECT new.id, new.provider, new.endpoint, uses FROM entry_total;
  END;
  CREATE TRIGGER IF NOT EXISTS entry_dropped AFTER DELETE ON entry BEGIN
    UPDATE entry_total SET entries = entries - 1, bytes = bytes - old.bytes;
    UPDATE endpoint_total SET entries = entries - 1 WHERE provider = old.provider AND endpoint = old.endpoint;
    DELETE FROM entry_use WHERE id = old.id;
  END;
  CREATE TABLE IF NOT EXISTS evicted (
    digest INTEGER PRIMARY KEY,
    fresh_until INTEGER NOT NULL
  );
  CREATE INDEX IF NOT EXISTS evicted_fresh_until ON evicted (fresh_until);
  CREATE TABLE IF NOT EXISTS ledger (
    detail INTEGER NOT NULL,
    grain INTEGER NOT NULL,
    bucket INTEGER NOT NULL,
    length INTEGER NOT NULL,
    mode TEXT NOT NULL,
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    tally TEXT NOT NULL,
    PRIMARY KEY (mode, provider, endpoint, detail, grain, bucket)
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
  CREATE TABLE IF NOT EXISTS claim (
    key TEXT PRIMARY KEY,
    provider TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    labels TEXT,
    token TEXT NOT NULL,
    until INTEGER NOT NULL,
    ended TEXT
  ) WITHOUT ROWID;
  CREATE TABLE IF NOT EXISTS showing (
    token TEXT PRIMARY KEY,
    shown_at INTEGER,
    watched_at INTEGER
  ) WITHOUT ROWID;
  CREATE TABLE IF NOT EXISTS shown_piece (
    token TEXT NOT NULL,
    number INTEGER NOT NULL,
    piece BLOB NOT NULL,
    PRIMARY KEY (token, number)
  );
  CREATE TABLE IF NOT EXISTS opener (
    id TEXT PRIMARY KEY,
    told_at INTEGER NOT NULL
  ) WITHOUT ROWID;
  CREATE TABLE IF NOT EXISTS store (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    id TEXT NOT NULL,
    opened_at INTEGER NOT NULL,
    removals INTEGER NOT NULL DEFAULT 0
  );
  CREATE TABLE IF NOT EXISTS adopted (
    id TEXT PRIMARY KEY
  );
${readable('readable_entry', 'entry', ['key', 'provider', 'endpoint', 'bytes'], entryTimes, [
  "CASE WHEN head LIKE '{%' THEN json_extract(head, '$.status') END AS status",
  'units',
  'labels',
  'price',
  "CASE WHEN head <> 'cbor' AND instr(body, x'00') = 0 THEN CAST(body AS TEXT) END AS body",
])}
  ${readable(
    'readable_ledger',
    'ledger',
    ['mode', 'provider', 'endpoint'],
    ['bucket'],
    [
      "CASE grain WHEN 0 THEN 'minute' WHEN 1 THEN 'hour' WHEN 2 THEN 'day' ELSE 'month' END AS grain",
      "CASE detail WHEN 1 THEN 'yes' ELSE 'no' END AS detail",
      'tally',
    ],
  )}
  ${readable('readable_record', 'shared_record', ['name'], ['keep_until'], ['value'])}
  PRAGMA application_id = ${applicationId};
  PRAGMA user_version = ${formatVersion};
`

/** What makes a file of a format into one of the next, by the number of the former; files of older formats are of before the first release. */
export const migrations: ReadonlyMap<number, string> = new Map([
  [8, 'ALTER TABLE store ADD COLUMN removals INTEGER NOT NULL DEFAULT 0'],
  [9, 'ALTER TABLE entry ADD COLUMN labels TEXT; DROP TABLE IF EXISTS claim; DROP VIEW IF EXISTS readable_entry'],
  [
    10,
    `ALTER TABLE entry ADD COLUMN price TEXT; DROP VIEW IF EXISTS readable_entry; ${['uses', 'saved', 'used_at'].map((name) => `ALTER TABLE entry_use ADD COLUMN ${name} INTEGER NOT NULL DEFAULT 0`).join('; ')}`,
  ],
])
