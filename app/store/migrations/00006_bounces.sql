-- +goose Up
-- The folder that a song's bounces come into, and what was seen there last.
CREATE TABLE bounce_folders (
	song_id TEXT PRIMARY KEY REFERENCES songs(id) ON DELETE CASCADE,
	folder  TEXT NOT NULL
);
CREATE TABLE bounces (
	song_id TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	name    TEXT NOT NULL,
	size    INTEGER NOT NULL,
	mod     TEXT NOT NULL,
	state   TEXT NOT NULL,
	stem    TEXT NOT NULL DEFAULT '',
	sha     TEXT NOT NULL DEFAULT '',
	said    TEXT NOT NULL DEFAULT '',
	seen    TEXT NOT NULL,
	PRIMARY KEY (song_id, name)
);

-- +goose Down
DROP TABLE bounces;
DROP TABLE bounce_folders;
