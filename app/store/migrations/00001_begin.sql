-- +goose Up
CREATE TABLE songs (
	id      TEXT PRIMARY KEY,
	name    TEXT NOT NULL,
	head    INTEGER NOT NULL DEFAULT 0,
	created TEXT NOT NULL,
	updated TEXT NOT NULL
);
CREATE TABLE revisions (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	song_id TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	parent  INTEGER REFERENCES revisions(id),
	summary TEXT NOT NULL,
	body    TEXT NOT NULL,
	created TEXT NOT NULL
);
CREATE INDEX revisions_by_song ON revisions(song_id, id);
CREATE INDEX revisions_by_parent ON revisions(parent);
CREATE TABLE takes (
	id          INTEGER PRIMARY KEY AUTOINCREMENT,
	song_id     TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	revision_id INTEGER NOT NULL REFERENCES revisions(id),
	name        TEXT NOT NULL,
	note        TEXT NOT NULL,
	numbers     TEXT NOT NULL,
	created     TEXT NOT NULL
);
CREATE TABLE audio_files (
	sha     TEXT PRIMARY KEY,
	ext     TEXT NOT NULL,
	bytes   INTEGER NOT NULL,
	created TEXT NOT NULL
);
CREATE TABLE facts (
	sha     TEXT NOT NULL REFERENCES audio_files(sha),
	version INTEGER NOT NULL,
	body    TEXT NOT NULL,
	PRIMARY KEY (sha, version)
);
CREATE TABLE jobs (
	id       INTEGER PRIMARY KEY AUTOINCREMENT,
	song_id  TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	kind     TEXT NOT NULL,
	name     TEXT NOT NULL,
	payload  TEXT NOT NULL,
	state    TEXT NOT NULL,
	progress REAL NOT NULL DEFAULT 0,
	message  TEXT NOT NULL DEFAULT '',
	created  TEXT NOT NULL,
	updated  TEXT NOT NULL
);
CREATE INDEX jobs_by_song ON jobs(song_id, id);

-- +goose Down
DROP TABLE jobs;
DROP TABLE facts;
DROP TABLE audio_files;
DROP TABLE takes;
DROP TABLE revisions;
DROP TABLE songs;
