//! The tables of the journal, and what makes an older journal one of today.

/// The version of the tables, in `user_version` of the database.
pub(super) const VERSION: u32 = 6;

/// Of runs that may have been cut off. As long as this is also the condition of an index, the start of a run does not go
/// through thousands of earlier ones.
pub(super) const OPEN: &str = "(state = 'running' OR half_done IS NULL OR half_done > 0)";

/// What brings the tables of a version to today's. Of an earlier version rows have to be packed after that, and then
/// [`WITHOUT_ROWS`] ends it.
pub(super) fn steps_from(version: u32) -> String {
    let rows = format!("CREATE TABLE entry_of_version_4 {ENTRY}");
    let from_3 = [FROM_VERSION_3, ACTIONS, &rows, INTO_VERSION_4, FROM_VERSION_4].concat();
    let to_5 = match version {
        0 => [RUN, ACTIONS, FROM_VERSION_4].concat(),
        1 => [FROM_VERSION_1, FROM_VERSION_2, &from_3].concat(),
        2 => [FROM_VERSION_2, &from_3].concat(),
        3 => from_3,
        4 => FROM_VERSION_4.to_owned(),
        _ => String::new(),
    };
    // lists of actions have another form since version 5, and the older one is known by how it begins
    format!("{to_5}CREATE INDEX open_run ON run (id) WHERE {OPEN};")
}

/// What is done when the rows of an earlier version have been packed.
pub(super) const WITHOUT_ROWS: &str = "DROP TABLE entry;";

/// What makes a journal of version 1 one of version 2, which tells of deleted files that were let go of
/// and why a measure is not the count.
const FROM_VERSION_1: &str = "ALTER TABLE run ADD COLUMN reasons TEXT NOT NULL DEFAULT '[]';";

/// What makes a journal of version 2 one of version 3, which keeps what may be removed while a removal goes on.
const FROM_VERSION_2: &str = "
CREATE TABLE inventory (
    run INTEGER NOT NULL,
    number INTEGER NOT NULL,
    list BLOB NOT NULL,
    PRIMARY KEY (run, number)
) STRICT, WITHOUT ROWID;
";

/// What makes a journal of version 3 one of version 4, which keeps actions packed by the thousand and apart from how they
/// stand, and what each rule did: first this, then the new tables, then [`INTO_VERSION_4`].
const FROM_VERSION_3: &str = "
ALTER TABLE run ADD COLUMN actions INTEGER NOT NULL DEFAULT 0;
UPDATE run SET actions = (SELECT count(*) FROM entry WHERE entry.run = run.id);
";

const INTO_VERSION_4: &str = "
INSERT INTO done_by_reason
    SELECT run, json_extract(action, '$.reason'), count(*), sum(freed) FROM entry
    WHERE state IN ('set aside', 'deleted', 'archived', 'purged') GROUP BY 1, 2;
INSERT INTO entry_of_version_4
    SELECT entry.run, entry.number, action, state, area, archive, NULL, parent_before, parent_after, freed, message, at, list
    FROM entry LEFT JOIN inventory ON inventory.run = entry.run AND inventory.number = entry.number;
DROP TABLE inventory;
DROP TABLE entry;
ALTER TABLE entry_of_version_4 RENAME TO entry;
";

/// What makes a journal of version 4 one of version 5, which keeps how actions stand in steps, each a packed list of what
/// was written together: what a later step says of an action is so. A run's counts are kept as long as they do not change,
/// and how many of its actions are half done, so that the start of a run need not go through all steps; NULL until they
/// have been counted.
const FROM_VERSION_4: &str = "
CREATE TABLE step (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES run (id),
    first INTEGER NOT NULL,
    last INTEGER NOT NULL,
    list BLOB NOT NULL
) STRICT;
CREATE INDEX step_of_run ON step (run);
ALTER TABLE run ADD COLUMN counts TEXT;
ALTER TABLE run ADD COLUMN half_done INTEGER;
";

const RUN: &str = "
CREATE TABLE run (
    id INTEGER PRIMARY KEY,
    plan_id TEXT NOT NULL UNIQUE,
    token TEXT NOT NULL,
    begun TEXT NOT NULL,
    ended TEXT,
    state TEXT NOT NULL,
    frees_now INTEGER NOT NULL,
    frees_later INTEGER NOT NULL,
    measured INTEGER,
    protect TEXT NOT NULL,
    reasons TEXT NOT NULL DEFAULT '[]',
    actions INTEGER NOT NULL DEFAULT 0
) STRICT;
";

/// The actions of a run by the thousand, and what was done for each reason.
const ACTIONS: &str = "
CREATE TABLE actions (
    run INTEGER NOT NULL REFERENCES run (id),
    first INTEGER NOT NULL,
    list BLOB NOT NULL,
    PRIMARY KEY (run, first)
) STRICT;
CREATE TABLE done_by_reason (
    run INTEGER NOT NULL REFERENCES run (id),
    reason TEXT NOT NULL,
    actions INTEGER NOT NULL,
    freed INTEGER NOT NULL,
    PRIMARY KEY (run, reason)
) STRICT, WITHOUT ROWID;
";

/// Of version 4: a row for every action that was begun. `action` is the action where it is another than in `actions`,
/// `list` is what may be removed of its target, and `copy` is the device and inode of what was moved.
const ENTRY: &str = "(
    run INTEGER NOT NULL REFERENCES run (id),
    number INTEGER NOT NULL,
    action TEXT,
    state TEXT NOT NULL,
    area BLOB,
    archive BLOB,
    copy TEXT,
    parent_before TEXT,
    parent_after TEXT,
    freed INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT '',
    at TEXT NOT NULL,
    list BLOB,
    PRIMARY KEY (run, number)
) STRICT, WITHOUT ROWID;
";
