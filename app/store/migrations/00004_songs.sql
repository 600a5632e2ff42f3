-- +goose Up
-- Songs may be archived, and deleted until they are removed for good; empty: they are not.
ALTER TABLE songs ADD COLUMN archived TEXT NOT NULL DEFAULT '';
ALTER TABLE songs ADD COLUMN deleted TEXT NOT NULL DEFAULT '';
-- How many findings of a stage were open at a revision, when they were last counted.
CREATE TABLE marks (
	song_id TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	stage   TEXT NOT NULL,
	rev     INTEGER NOT NULL,
	open    INTEGER NOT NULL,
	PRIMARY KEY (song_id, stage)
);

-- +goose Down
DROP TABLE marks;
ALTER TABLE songs DROP COLUMN deleted;
ALTER TABLE songs DROP COLUMN archived;
