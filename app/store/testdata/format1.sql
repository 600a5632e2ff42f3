BEGIN TRANSACTION;
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
CREATE TABLE goose_db_version (
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL,
		tstamp TIMESTAMP DEFAULT (datetime('now'))
	);
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-26 13:07:38');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-26 13:07:38');
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
CREATE TABLE revisions (
	id      INTEGER PRIMARY KEY AUTOINCREMENT,
	song_id TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	parent  INTEGER REFERENCES revisions(id),
	summary TEXT NOT NULL,
	body    TEXT NOT NULL,
	created TEXT NOT NULL
);
INSERT INTO "revisions" VALUES(1,'7az4fta6po7impme',NULL,'New song','{"format":1,"name":"Old Harbour","bpm":120,"leader":"kick","rate_hz":0,"targets":{"clearance_db":8,"max_depth_db":12},"stems":null}','2026-11-26T13:07:38.323593781Z');
INSERT INTO "revisions" VALUES(2,'7az4fta6po7impme',1,'Add four stems','{"format":1,"name":"Old Harbour","bpm":120,"felt_bpm":60,"key":"F minor","grid_offset_s":0.012,"leader":"kick","rate_hz":44100,"targets":{"clearance_db":8,"max_depth_db":12},"stems":[{"id":"s1","name":"Kick","role":"kick","audio":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa","bus":"b1","midi":{"name":"kick.mid","offset_s":0.01,"notes":[{"at_s":0,"end_s":0.1,"key":36},{"at_s":0.5,"end_s":0.6,"key":36}]}},{"id":"s2","name":"808","role":"bass","audio":"bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb","was":"cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc","source_db":-1,"clip_db":-2,"fader_db":0.5},{"id":"s3","name":"Pad","role":"melodic","audio":"dddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddd","pan":-0.3,"width_change":0.2,"locks":["track"],"bus":"b2","sends":[{"bus":"b3","level_db":-12,"pre":true}]},{"id":"s4","name":"Hats","role":"hats","audio":"eeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeee","mute":true}],"buses":[{"id":"b1","name":"Drums"},{"id":"b2","name":"Music","fader_db":-3,"bus":"b4"},{"id":"b3","name":"Return"},{"id":"b4","name":"All","locks":["bus"]}],"master":{"fader_db":-2},"references":[{"id":"r1","name":"Finished","audio":"ffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff"}],"triggers":[{"id":"kick","name":"Kick","stem":"s1","added_s":[1.5],"quiet_db":20},{"id":"t1","name":"every 1/4","stem":"","grid":"1/4"}]}','2026-11-26T13:07:38.326230304Z');
INSERT INTO "revisions" VALUES(3,'7az4fta6po7impme',2,'Moves on kick and bass','{"format":1,"name":"Old Harbour","bpm":120,"felt_bpm":60,"key":"F minor","grid_offset_s":0.012,"leader":"kick","rate_hz":44100,"targets":{"clearance_db":8,"max_depth_db":12},"stems":[{"id":"s1","name":"Kick","role":"kick","audio":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa","bus":"b1","midi":{"name":"kick.mid","offset_s":0.01,"notes":[{"at_s":0,"end_s":0.1,"key":36},{"at_s":0.5,"end_s":0.6,"key":36}]},"moves":[{"kind":"tune","id":"tune","params":{"cents":100,"trigger":"kick"}},{"kind":"filter","id":"kick-pass","params":{"shape":"highpass","hz":29,"slope_db_oct":12}},{"kind":"fade","id":"tail-fade","why":"its tail","params":{"trigger":"kick","from_ms":80,"to_ms":160}}]},{"id":"s2","name":"808","role":"bass","audio":"bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb","was":"cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc","source_db":-1,"clip_db":-2,"fader_db":0.5,"moves":[{"kind":"polarity","id":"flip","params":{}},{"kind":"tune","id":"tune","params":{"cents":-17,"notes":[{"at_s":0},{"at_s":1,"cents":5}]}},{"kind":"filter","id":"bass-dip","params":{"shape":"bell","hz":52,"q":1.4,"db":-3}},{"kind":"nudge","id":"nudge","off":true,"params":{"ms":-1.5}},{"kind":"duck","id":"duck-s2","why":"the least","params":{"school":"curve","trigger":"kick","points":[{"ms":-5,"db":0},{"ms":0,"db":-6},{"ms":125,"note":"1/16","db":-6,"bend":0.3},{"ms":180,"db":0}],"parts":[{"at_s":0.5,"part":0.4}]}}]},{"id":"s3","name":"Pad","role":"melodic","audio":"dddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddd","pan":-0.3,"width_change":0.2,"locks":["track"],"bus":"b2","sends":[{"bus":"b3","level_db":-12,"pre":true}]},{"id":"s4","name":"Hats","role":"hats","audio":"eeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeee","mute":true}],"buses":[{"id":"b1","name":"Drums"},{"id":"b2","name":"Music","fader_db":-3,"bus":"b4"},{"id":"b3","name":"Return"},{"id":"b4","name":"All","locks":["bus"]}],"master":{"fader_db":-2},"references":[{"id":"r1","name":"Finished","audio":"ffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff"}],"triggers":[{"id":"kick","name":"Kick","stem":"s1","added_s":[1.5],"quiet_db":20},{"id":"t1","name":"every 1/4","stem":"","grid":"1/4"}]}','2026-11-26T13:07:38.327654018Z');
INSERT INTO "revisions" VALUES(4,'7az4fta6po7impme',3,'Music ducks by -3.0 dB to every 1/4','{"format":1,"name":"Old Harbour","bpm":120,"felt_bpm":60,"key":"F minor","grid_offset_s":0.012,"leader":"kick","rate_hz":44100,"targets":{"clearance_db":8,"max_depth_db":12},"stems":[{"id":"s1","name":"Kick","role":"kick","audio":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa","bus":"b1","midi":{"name":"kick.mid","offset_s":0.01,"notes":[{"at_s":0,"end_s":0.1,"key":36},{"at_s":0.5,"end_s":0.6,"key":36}]},"moves":[{"kind":"tune","id":"tune","params":{"cents":100,"trigger":"kick"}},{"kind":"filter","id":"kick-pass","params":{"shape":"highpass","hz":29,"slope_db_oct":12}},{"kind":"fade","id":"tail-fade","why":"its tail","params":{"trigger":"kick","from_ms":80,"to_ms":160}}]},{"id":"s2","name":"808","role":"bass","audio":"bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb","was":"cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc","source_db":-1,"clip_db":-2,"fader_db":0.5,"moves":[{"kind":"polarity","id":"flip","params":{}},{"kind":"tune","id":"tune","params":{"cents":-17,"notes":[{"at_s":0},{"at_s":1,"cents":5}]}},{"kind":"filter","id":"bass-dip","params":{"shape":"bell","hz":52,"q":1.4,"db":-3}},{"kind":"nudge","id":"nudge","off":true,"params":{"ms":-1.5}},{"kind":"duck","id":"duck-s2","why":"the least","params":{"school":"curve","trigger":"kick","points":[{"ms":-5,"db":0},{"ms":0,"db":-6},{"ms":125,"note":"1/16","db":-6,"bend":0.3},{"ms":180,"db":0}],"parts":[{"at_s":0.5,"part":0.4}]}}]},{"id":"s3","name":"Pad","role":"melodic","audio":"dddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddd","pan":-0.3,"width_change":0.2,"locks":["track"],"bus":"b2","sends":[{"bus":"b3","level_db":-12,"pre":true}]},{"id":"s4","name":"Hats","role":"hats","audio":"eeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeee","mute":true}],"buses":[{"id":"b1","name":"Drums"},{"id":"b2","name":"Music","fader_db":-3,"bus":"b4","duck":{"kind":"duck","id":"duck-bus-b2","params":{"school":"curve","trigger":"t1","points":[{"ms":-5,"db":0},{"ms":0,"db":-3},{"ms":80,"db":-3},{"ms":160,"db":0}]}}},{"id":"b3","name":"Return"},{"id":"b4","name":"All","locks":["bus"]}],"master":{"fader_db":-2},"references":[{"id":"r1","name":"Finished","audio":"ffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff"}],"triggers":[{"id":"kick","name":"Kick","stem":"s1","added_s":[1.5],"quiet_db":20},{"id":"t1","name":"every 1/4","stem":"","grid":"1/4"}]}','2026-11-26T13:07:38.328699742Z');
INSERT INTO "revisions" VALUES(5,'7az4fta6po7impme',4,'All ducks by a band','{"format":1,"name":"Old Harbour","bpm":120,"felt_bpm":60,"key":"F minor","grid_offset_s":0.012,"leader":"kick","rate_hz":44100,"targets":{"clearance_db":8,"max_depth_db":12},"stems":[{"id":"s1","name":"Kick","role":"kick","audio":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa","bus":"b1","midi":{"name":"kick.mid","offset_s":0.01,"notes":[{"at_s":0,"end_s":0.1,"key":36},{"at_s":0.5,"end_s":0.6,"key":36}]},"moves":[{"kind":"tune","id":"tune","params":{"cents":100,"trigger":"kick"}},{"kind":"filter","id":"kick-pass","params":{"shape":"highpass","hz":29,"slope_db_oct":12}},{"kind":"fade","id":"tail-fade","why":"its tail","params":{"trigger":"kick","from_ms":80,"to_ms":160}}]},{"id":"s2","name":"808","role":"bass","audio":"bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb","was":"cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc","source_db":-1,"clip_db":-2,"fader_db":0.5,"moves":[{"kind":"polarity","id":"flip","params":{}},{"kind":"tune","id":"tune","params":{"cents":-17,"notes":[{"at_s":0},{"at_s":1,"cents":5}]}},{"kind":"filter","id":"bass-dip","params":{"shape":"bell","hz":52,"q":1.4,"db":-3}},{"kind":"nudge","id":"nudge","off":true,"params":{"ms":-1.5}},{"kind":"duck","id":"duck-s2","why":"the least","params":{"school":"curve","trigger":"kick","points":[{"ms":-5,"db":0},{"ms":0,"db":-6},{"ms":125,"note":"1/16","db":-6,"bend":0.3},{"ms":180,"db":0}],"parts":[{"at_s":0.5,"part":0.4}]}}]},{"id":"s3","name":"Pad","role":"melodic","audio":"dddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddd","pan":-0.3,"width_change":0.2,"locks":["track"],"bus":"b2","sends":[{"bus":"b3","level_db":-12,"pre":true}]},{"id":"s4","name":"Hats","role":"hats","audio":"eeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeeee","mute":true}],"buses":[{"id":"b1","name":"Drums"},{"id":"b2","name":"Music","fader_db":-3,"bus":"b4","duck":{"kind":"duck","id":"duck-bus-b2","params":{"school":"curve","trigger":"t1","points":[{"ms":-5,"db":0},{"ms":0,"db":-3},{"ms":80,"db":-3},{"ms":160,"db":0}]}}},{"id":"b3","name":"Return"},{"id":"b4","name":"All","locks":["bus"],"duck":{"kind":"duck","id":"duck-bus-b4","off":true,"why":"tried","params":{"school":"band","trigger":"kick","compressor":{"threshold_db":-30,"ratio":4,"knee_db":6,"attack_ms":1,"hold_ms":10,"release_ms":80,"lookahead_ms":2},"key":{"lowpass_hz":120,"slope_db_oct":24},"band":{"shape":"bell","hz":60,"q":0.8,"range_db":6,"channels":"mid"}}}}],"master":{"fader_db":-2},"references":[{"id":"r1","name":"Finished","audio":"ffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff"}],"triggers":[{"id":"kick","name":"Kick","stem":"s1","added_s":[1.5],"quiet_db":20},{"id":"t1","name":"every 1/4","stem":"","grid":"1/4"}]}','2026-11-26T13:07:38.354407176Z');
CREATE TABLE songs (
	id      TEXT PRIMARY KEY,
	name    TEXT NOT NULL,
	head    INTEGER NOT NULL DEFAULT 0,
	created TEXT NOT NULL,
	updated TEXT NOT NULL
);
INSERT INTO "songs" VALUES('7az4fta6po7impme','Old Harbour',4,'2026-11-26T13:07:38.322266843Z','2026-11-26T13:07:38.355410527Z');
CREATE TABLE takes (
	id          INTEGER PRIMARY KEY AUTOINCREMENT,
	song_id     TEXT NOT NULL REFERENCES songs(id) ON DELETE CASCADE,
	revision_id INTEGER NOT NULL REFERENCES revisions(id),
	name        TEXT NOT NULL,
	note        TEXT NOT NULL,
	numbers     TEXT NOT NULL,
	created     TEXT NOT NULL
);
INSERT INTO "takes" VALUES(1,'7az4fta6po7impme',4,'With music ducked','a note','{"clearance_median_db":null,"loop":"bars 1 to 8","peak_dbfs":-3.2}','2026-11-26T13:07:38.347707836Z');
CREATE INDEX revisions_by_song ON revisions(song_id, id);
CREATE INDEX revisions_by_parent ON revisions(parent);
CREATE INDEX jobs_by_song ON jobs(song_id, id);
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',2);
INSERT INTO "sqlite_sequence" VALUES('revisions',5);
INSERT INTO "sqlite_sequence" VALUES('takes',1);
COMMIT;
