BEGIN TRANSACTION;
CREATE TABLE assessment (
	id INTEGER NOT NULL, 
	at FLOAT NOT NULL, 
	assessor VARCHAR NOT NULL, 
	exercise_id VARCHAR NOT NULL, 
	first_item VARCHAR NOT NULL, 
	second_item VARCHAR, 
	round INTEGER NOT NULL, 
	value INTEGER, 
	choice VARCHAR, 
	reply BLOB NOT NULL, 
	fault VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (assessor, first_item, second_item, round), 
	FOREIGN KEY(exercise_id) REFERENCES exercise (id)
);
INSERT INTO "assessment" VALUES(1,1.79581908532741570472e+09,'s@q8_0','e0','a',NULL,1,3,NULL,X'789CF3750CF25630060005B5017F','');
CREATE TABLE attempt (
	id INTEGER NOT NULL, 
	trial_id INTEGER NOT NULL, 
	number INTEGER NOT NULL, 
	turn INTEGER NOT NULL, 
	exchange_id INTEGER, 
	outcome VARCHAR NOT NULL, 
	score FLOAT NOT NULL, 
	files BLOB NOT NULL, 
	extraction VARCHAR NOT NULL, 
	fault VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(trial_id) REFERENCES trial (id), 
	FOREIGN KEY(exchange_id) REFERENCES exchange (id)
);
INSERT INTO "attempt" VALUES(1,1,1,1,1,'passed',1.0,X'789CAB564ACC2B2E4F2DD22BA854B25250AA50AA05003C9205FA','{"how": "the only block", "remarks": ["r"], "language": "python"}','');
INSERT INTO "attempt" VALUES(2,2,1,1,2,'passed',1.0,X'789CAB564ACC2B2E4F2DD22BA854B25250AA50AA05003C9205FA','{"how": "the only block", "remarks": ["r"], "language": "python"}','');
INSERT INTO "attempt" VALUES(3,3,1,1,3,'wrong-answer',0.0,X'789CAB564ACC2B2E4F2DD22BA854B25250AA50AA05003C9205FA','{"how": "the only block", "remarks": ["r"], "language": "python"}','');
CREATE TABLE campaign (
	id INTEGER NOT NULL, 
	title VARCHAR NOT NULL, 
	started_at FLOAT NOT NULL, 
	tool_version VARCHAR NOT NULL, 
	plan_text VARCHAR NOT NULL, 
	plan_digest VARCHAR NOT NULL, 
	plan_parts VARCHAR NOT NULL, 
	suite_name VARCHAR NOT NULL, 
	suite_digest VARCHAR NOT NULL, 
	rig VARCHAR NOT NULL, 
	simulated BOOLEAN NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "campaign" VALUES(1,'By hand',1.79581908493158960348e+09,'0.1.0','title = "t"
suite = "s"
record = "r"
[[candidate]]
model = "m"
level = "l"

[[criterion]]
measure = "pass_rate"
at_least = 0.2
[[criterion]]
measure = "first_token_s.p50"
at_most = "1 s"
confidence = 0.75
[speed]
requests = 5
cached = 2
[speed.clients]
counts = [1, 4]
[speed.arrivals]
first_token = "1 s"
per_engineer_hour = 12.0
[grading]
in_flight = 2
[server]
command = ["run", "{slots}"]
slots = 2
cache_bits = 8
','sha256:15c38b26d544efd734ae4e1e7609328fe8292b12a9029053b54b4cecddbbe529','{}','berthdesk','sha256:x','{"host": {}}',0);
CREATE TABLE candidate (
	id INTEGER NOT NULL, 
	name VARCHAR NOT NULL, 
	model VARCHAR NOT NULL, 
	level VARCHAR NOT NULL, 
	reference BOOLEAN NOT NULL, 
	baseline BOOLEAN, 
	settings VARCHAR NOT NULL, 
	weights_path VARCHAR, 
	weights_bytes INTEGER, 
	weights_sha256 VARCHAR, 
	weights_facts VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (name)
);
INSERT INTO "candidate" VALUES(1,'m@f16','m','f16',1,NULL,'{"grading": {"samples": 1, "in_flight": 2}, "speed": {"arrivals": {"per_engineer_hour": 12.0}, "clients": {"counts": [1, 4]}}, "server": {"context": 4096, "slots": 2, "cache_bits": 8}, "prompting": {"guard": true}}','w',500,'ab','{}');
CREATE TABLE check_result (
	id INTEGER NOT NULL, 
	attempt_id INTEGER NOT NULL, 
	name VARCHAR NOT NULL, 
	kind VARCHAR NOT NULL, 
	required BOOLEAN NOT NULL, 
	weight FLOAT NOT NULL, 
	passed BOOLEAN NOT NULL, 
	"end" VARCHAR NOT NULL, 
	cases_passed INTEGER NOT NULL, 
	cases_total INTEGER NOT NULL, 
	detail VARCHAR NOT NULL, 
	wall_s FLOAT NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(attempt_id) REFERENCES attempt (id)
);
INSERT INTO "check_result" VALUES(1,1,'c','calls',1,1.0,1,'finished',1,2,'why',0.1);
INSERT INTO "check_result" VALUES(2,2,'c','calls',1,1.0,1,'finished',1,2,'why',0.1);
INSERT INTO "check_result" VALUES(3,3,'c','calls',1,1.0,0,'finished',1,2,'why',0.1);
CREATE TABLE exchange (
	id INTEGER NOT NULL, 
	candidate_id INTEGER NOT NULL, 
	session_id INTEGER NOT NULL, 
	purpose VARCHAR NOT NULL, 
	point VARCHAR, 
	superseded_at FLOAT, 
	disturbed VARCHAR, 
	memory_bytes INTEGER, 
	scheduled_lag_s FLOAT, 
	asked_at FLOAT NOT NULL, 
	in_flight INTEGER NOT NULL, 
	prompt_id INTEGER NOT NULL, 
	sampling VARCHAR NOT NULL, 
	reply BLOB NOT NULL, 
	thinking BLOB NOT NULL, 
	finish_reason VARCHAR, 
	fault VARCHAR, 
	prompt_tokens INTEGER, 
	completion_tokens INTEGER NOT NULL, 
	token_count VARCHAR NOT NULL, 
	events INTEGER NOT NULL, 
	thinking_tokens INTEGER NOT NULL, 
	packed BOOLEAN NOT NULL, 
	first_token_s FLOAT, 
	first_answer_token_s FLOAT, 
	finished_s FLOAT NOT NULL, 
	decode_rate_tps FLOAT, 
	prefill_rate_tps FLOAT, 
	gap_p50_s FLOAT, 
	gap_p95_s FLOAT, 
	gap_p99_s FLOAT, 
	gap_max_s FLOAT, 
	stamps BLOB NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(candidate_id) REFERENCES candidate (id), 
	FOREIGN KEY(session_id) REFERENCES session (id), 
	FOREIGN KEY(prompt_id) REFERENCES prompt (id)
);
INSERT INTO "exchange" VALUES(1,1,1,'answer',NULL,NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,3,'events',3,0,0,0.1,0.1,0.5,10.0,NULL,9.99999999999999916733e-02,0.1,0.1,0.1,X'03000000789C5BD0C6C800020BD068060039460376');
INSERT INTO "exchange" VALUES(2,1,1,'answer',NULL,NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,3,'events',3,0,0,0.1,0.1,0.5,10.0,NULL,9.99999999999999916733e-02,0.1,0.1,0.1,X'03000000789C5BD0C6C800020BD068060039460376');
INSERT INTO "exchange" VALUES(3,1,1,'answer',NULL,NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,3,'events',3,0,0,0.1,0.1,0.5,10.0,NULL,9.99999999999999916733e-02,0.1,0.1,0.1,X'03000000789C5BD0C6C800020BD068060039460376');
INSERT INTO "exchange" VALUES(4,1,1,'latency','{"prompt_tokens": null, "reply_tokens": 11}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(5,1,1,'latency','{"prompt_tokens": null, "reply_tokens": 11}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(6,1,1,'latency','{"prompt_tokens": null, "reply_tokens": 11}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(7,1,1,'latency','{"prompt_tokens": null, "reply_tokens": 11}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(8,1,1,'latency','{"prompt_tokens": null, "reply_tokens": 11}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(9,1,1,'latency','{"prompt_tokens": null, "reply_tokens": 11}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(10,1,1,'clients','{"clients": 1}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(11,1,1,'clients','{"clients": 4}',NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,11,'usage',11,0,0,0.1,0.1,0.5,100.0,NULL,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,1.00000000000000088817e-02,X'0B000000789C5BD0C6C8000202EA0C54A5191800C8D6034E');
INSERT INTO "exchange" VALUES(12,1,1,'guard',NULL,NULL,NULL,NULL,NULL,0.0,1,1,'{"seed": 1}',X'789C7332040000B70074',X'789C030000000001','stop',NULL,NULL,3,'events',3,0,0,0.1,0.1,0.5,10.0,NULL,9.99999999999999916733e-02,0.1,0.1,0.1,X'03000000789C5BD0C6C800020BD068060039460376');
CREATE TABLE exercise (
	id VARCHAR NOT NULL, 
	title VARCHAR NOT NULL, 
	kind VARCHAR NOT NULL, 
	language VARCHAR NOT NULL, 
	difficulty INTEGER NOT NULL, 
	topics VARCHAR NOT NULL, 
	suite VARCHAR NOT NULL, 
	weight FLOAT NOT NULL, 
	varies BOOLEAN NOT NULL, 
	not_measured VARCHAR, 
	guidance VARCHAR, 
	PRIMARY KEY (id)
);
INSERT INTO "exercise" VALUES('e0','e0','write','python',1,'["tides"]','berthdesk',1.0,0,NULL,NULL);
INSERT INTO "exercise" VALUES('e1','e1','write','python',1,'["tides"]','berthdesk',1.0,0,NULL,NULL);
INSERT INTO "exercise" VALUES('e2','e2','write','python',1,'["tides"]','berthdesk',1.0,0,NULL,NULL);
CREATE TABLE mark (
	id INTEGER NOT NULL, 
	at FLOAT NOT NULL, 
	marker VARCHAR NOT NULL, 
	exercise_id VARCHAR NOT NULL, 
	item VARCHAR NOT NULL, 
	showing INTEGER NOT NULL, 
	value INTEGER, 
	note VARCHAR NOT NULL, 
	via VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(exercise_id) REFERENCES exercise (id)
);
CREATE TABLE memory_block (
	id INTEGER NOT NULL, 
	session_id INTEGER NOT NULL, 
	phase VARCHAR NOT NULL, 
	superseded_at FLOAT, 
	samples INTEGER NOT NULL, 
	host_peak_bytes INTEGER NOT NULL, 
	accelerator_peak_bytes INTEGER NOT NULL, 
	peak_bytes INTEGER NOT NULL, 
	end_bytes INTEGER NOT NULL, 
	mapped_peak_bytes INTEGER NOT NULL, 
	energy_j FLOAT, 
	energy_from VARCHAR, 
	series BLOB NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(session_id) REFERENCES session (id)
);
INSERT INTO "memory_block" VALUES(1,1,'clients 1',NULL,1,10,1090,1100,1099,4,NULL,NULL,X'');
INSERT INTO "memory_block" VALUES(2,1,'clients 4',NULL,1,10,1390,1400,1399,4,NULL,NULL,X'');
INSERT INTO "memory_block" VALUES(3,1,'answers',NULL,1,300,505,800,300,0,NULL,NULL,X'');
CREATE TABLE meta (
	"key" VARCHAR NOT NULL, 
	value VARCHAR NOT NULL, 
	PRIMARY KEY ("key")
);
INSERT INTO "meta" VALUES('schema_version','7');
INSERT INTO "meta" VALUES('made_by','kettlefield 0.1.0');
CREATE TABLE note (
	id INTEGER NOT NULL, 
	at FLOAT NOT NULL, 
	candidate_id INTEGER, 
	text VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(candidate_id) REFERENCES candidate (id)
);
CREATE TABLE picture (
	id INTEGER NOT NULL, 
	attempt_id INTEGER NOT NULL, 
	width VARCHAR NOT NULL, 
	png BLOB NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(attempt_id) REFERENCES attempt (id)
);
CREATE TABLE procedure (
	id INTEGER NOT NULL, 
	candidate_id INTEGER NOT NULL, 
	session_id INTEGER NOT NULL, 
	name VARCHAR NOT NULL, 
	superseded_at FLOAT, 
	ended_at FLOAT NOT NULL, 
	why_ended VARCHAR NOT NULL, 
	facts VARCHAR NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(candidate_id) REFERENCES candidate (id), 
	FOREIGN KEY(session_id) REFERENCES session (id)
);
INSERT INTO "procedure" VALUES(1,1,1,'clients',NULL,1.79581908526998758313e+09,'done','{"counts": [{"clients": 1, "rate_tps": 90.0, "faults": 0}, {"clients": 4, "rate_tps": 95.0, "faults": 0}], "knee_clients": 1}');
INSERT INTO "procedure" VALUES(2,1,1,'arrivals',NULL,1795819085.28973,'done','{"capacity_rps": 2.0, "fails_at_rps": 3.0, "tries": []}');
CREATE TABLE prompt (
	id INTEGER NOT NULL, 
	digest VARCHAR NOT NULL, 
	messages BLOB NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (digest)
);
INSERT INTO "prompt" VALUES(1,'df0be5db3844993bb6b1db58dc9f50a48b12b26b9887b87740a4e8d082899b19',X'789C8BAE562ACACF4955B252502A2D4E2D52D251504ACECF2B49CD2B010925A5169564D82BD5C60200F87B0C81');
CREATE TABLE session (
	id INTEGER NOT NULL, 
	candidate_id INTEGER NOT NULL, 
	started_at FLOAT NOT NULL, 
	command VARCHAR NOT NULL, 
	url VARCHAR NOT NULL, 
	program VARCHAR, 
	description VARCHAR NOT NULL, 
	preflight VARCHAR, 
	loaded VARCHAR, 
	load_kind VARCHAR NOT NULL, 
	load_s FLOAT, 
	load_disturbed VARCHAR, 
	first_answer_s FLOAT, 
	baseline_bytes INTEGER, 
	ended VARCHAR, 
	PRIMARY KEY (id), 
	FOREIGN KEY(candidate_id) REFERENCES candidate (id)
);
INSERT INTO "session" VALUES(1,1,1.79581908495031070715e+09,'["run"]','http://x',NULL,'stand-in (simulated)',NULL,NULL,'as found',1.5,NULL,NULL,0,NULL);
CREATE TABLE signature (
	id INTEGER NOT NULL, 
	at FLOAT NOT NULL, 
	signed_by VARCHAR NOT NULL, 
	note VARCHAR NOT NULL, 
	verdicts VARCHAR NOT NULL, 
	plan_digest VARCHAR NOT NULL, 
	suite_digest VARCHAR NOT NULL, 
	results_digest VARCHAR NOT NULL, 
	previous_digest VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "signature" VALUES(1,1.79581908724986362459e+09,'R. Tern','as measured','{"m@f16": "approved"}','sha256:15c38b26d544efd734ae4e1e7609328fe8292b12a9029053b54b4cecddbbe529','sha256:x','sha256:b819c9e89639f3d45af60f92229281f44400c97e18c284807246e23b4feb6ddd','sha256:none','sha256:bada63dd318f55d16a1ea95bdcb8ccfa61009f3fa5871b162c228af536300a07');
CREATE TABLE trial (
	id INTEGER NOT NULL, 
	candidate_id INTEGER NOT NULL, 
	exercise_id VARCHAR NOT NULL, 
	sample INTEGER NOT NULL, 
	seed INTEGER NOT NULL, 
	outcome VARCHAR NOT NULL, 
	first_outcome VARCHAR NOT NULL, 
	score FLOAT NOT NULL, 
	attempts INTEGER NOT NULL, 
	finished_at FLOAT NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (candidate_id, exercise_id, sample), 
	FOREIGN KEY(candidate_id) REFERENCES candidate (id), 
	FOREIGN KEY(exercise_id) REFERENCES exercise (id)
);
INSERT INTO "trial" VALUES(1,1,'e0',1,1,'passed','passed',1.0,1,1.79581908498455214504e+09);
INSERT INTO "trial" VALUES(2,1,'e1',1,1,'passed','passed',1.0,1,1.79581908507553839678e+09);
INSERT INTO "trial" VALUES(3,1,'e2',1,1,'wrong-answer','wrong-answer',0.0,1,1.79581908509614372251e+09);
CREATE INDEX ix_session_candidate_id ON session (candidate_id);
CREATE INDEX ix_trial_candidate_id ON trial (candidate_id);
CREATE INDEX ix_exchange_candidate_id ON exchange (candidate_id);
CREATE INDEX ix_exchange_prompt_id ON exchange (prompt_id);
CREATE INDEX ix_exchange_session_id ON exchange (session_id);
CREATE INDEX ix_memory_block_session_id ON memory_block (session_id);
CREATE INDEX ix_procedure_session_id ON procedure (session_id);
CREATE INDEX ix_procedure_candidate_id ON procedure (candidate_id);
CREATE INDEX ix_attempt_trial_id ON attempt (trial_id);
CREATE INDEX ix_check_result_attempt_id ON check_result (attempt_id);
CREATE INDEX ix_picture_attempt_id ON picture (attempt_id);
COMMIT;
