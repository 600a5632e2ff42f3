-- +goose Up
-- Stems that went out, by their samples: one that comes back is known, and nothing is applied to it twice.
CREATE TABLE exports (
	song_id TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	print   TEXT NOT NULL,
	held    TEXT NOT NULL,
	created TEXT NOT NULL,
	PRIMARY KEY (song_id, print)
);

-- +goose Down
DROP TABLE exports;
