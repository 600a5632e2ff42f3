-- +goose Up
-- Finished tracks that are kept across songs, with what was measured of them.
CREATE TABLE favourites (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	sha     TEXT NOT NULL UNIQUE,
	name    TEXT NOT NULL,
	sound   TEXT NOT NULL,
	created TEXT NOT NULL
);
-- Blind tests and drills: what is played, in which order, and what was answered. A drill is of no song.
CREATE TABLE ears (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	token   TEXT NOT NULL UNIQUE,
	song_id TEXT NOT NULL DEFAULT '',
	kind    TEXT NOT NULL,
	body    TEXT NOT NULL,
	state   TEXT NOT NULL,
	created TEXT NOT NULL
);
CREATE INDEX ears_by_song ON ears(song_id, id);
CREATE INDEX ears_by_kind ON ears(kind, id);

-- +goose Down
DROP TABLE ears;
DROP TABLE favourites;
