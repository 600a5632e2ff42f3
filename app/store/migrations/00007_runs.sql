-- +goose Up
-- Several changes that were made as one: the revision that they stand on, the last of them, and what was said of them. One undo takes all back.
CREATE TABLE runs (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	song_id TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	base    INTEGER NOT NULL,
	head    INTEGER NOT NULL,
	said    TEXT NOT NULL,
	body    TEXT NOT NULL,
	created TEXT NOT NULL
);
CREATE INDEX runs_by_song ON runs(song_id, id);
ALTER TABLE revisions ADD COLUMN run INTEGER NOT NULL DEFAULT 0;
-- Takes may be kept at the top.
ALTER TABLE takes ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0;
-- What a new song may start from: a song without audio.
CREATE TABLE templates (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	name    TEXT NOT NULL,
	body    TEXT NOT NULL,
	created TEXT NOT NULL
);

-- +goose Down
DROP TABLE templates;
ALTER TABLE takes DROP COLUMN pinned;
ALTER TABLE revisions DROP COLUMN run;
DROP TABLE runs;
