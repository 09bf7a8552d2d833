-- How the state of an earlier Hooper becomes today's: what brings it to version N stands below the line that says so.

-- to version 1
CREATE TABLE results (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, from_kind TEXT NOT NULL, from_name TEXT NOT NULL,
    proves_outside INTEGER NOT NULL, service TEXT NOT NULL, transport TEXT NOT NULL, port INTEGER NOT NULL,
    verdict TEXT NOT NULL, ok INTEGER NOT NULL, document TEXT NOT NULL
);
CREATE INDEX results_by_service ON results (service, at);
CREATE TABLE inside (
    service TEXT NOT NULL, transport TEXT NOT NULL, port INTEGER NOT NULL, verdict TEXT NOT NULL,
    fingerprint TEXT, greeting TEXT, at TEXT NOT NULL, PRIMARY KEY (service, transport, port)
);

-- to version 2
CREATE TABLE told (key TEXT PRIMARY KEY, value TEXT NOT NULL, at TEXT NOT NULL);

-- to version 3
CREATE TABLE rules (
    gateway TEXT NOT NULL, transport TEXT NOT NULL, outside_port INTEGER NOT NULL, source TEXT NOT NULL,
    service TEXT NOT NULL, state TEXT NOT NULL, rule TEXT NOT NULL, before TEXT, until TEXT,
    PRIMARY KEY (gateway, transport, outside_port, source)
);
CREATE TABLE updates (
    name TEXT NOT NULL, type TEXT NOT NULL, value TEXT NOT NULL, at TEXT NOT NULL, outcome TEXT NOT NULL,
    said TEXT NOT NULL, not_before TEXT, mark TEXT NOT NULL, PRIMARY KEY (name, type)
);
CREATE TABLE accounts (directory TEXT PRIMARY KEY, url TEXT NOT NULL);
CREATE TABLE orders (
    certificate TEXT PRIMARY KEY, directory TEXT NOT NULL, url TEXT, names TEXT NOT NULL, at TEXT NOT NULL
);
CREATE TABLE texts (name TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (name, text));

-- to version 4
CREATE TABLE seen (line TEXT PRIMARY KEY, address TEXT NOT NULL, source TEXT NOT NULL, at TEXT NOT NULL);

-- to version 5
CREATE TABLE surveys (line TEXT PRIMARY KEY, at TEXT NOT NULL, document TEXT NOT NULL);
CREATE TABLE aside (at TEXT NOT NULL DEFAULT CURRENT_TIMESTAMP, part TEXT NOT NULL, row TEXT NOT NULL);

-- to version 6
CREATE TABLE turns (
    task TEXT PRIMARY KEY, due TEXT, last TEXT, failures INTEGER NOT NULL, hold TEXT, runs INTEGER NOT NULL
);
CREATE TABLE states (
    kind TEXT NOT NULL, subject TEXT NOT NULL, aspect TEXT NOT NULL, state TEXT NOT NULL, level TEXT NOT NULL,
    since TEXT NOT NULL, at TEXT NOT NULL, detail TEXT NOT NULL, cause TEXT, PRIMARY KEY (kind, subject, aspect)
);
CREATE TABLE events (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, aspect TEXT NOT NULL,
    before TEXT, after TEXT NOT NULL, level TEXT NOT NULL, detail TEXT NOT NULL, cause TEXT, seconds REAL
);
CREATE TABLE days (
    service TEXT NOT NULL, place TEXT NOT NULL, day TEXT NOT NULL, looks INTEGER NOT NULL, well INTEGER NOT NULL,
    took_ms REAL NOT NULL, timed INTEGER NOT NULL, PRIMARY KEY (service, place, day)
);
CREATE TABLE notices (notice TEXT PRIMARY KEY, event INTEGER NOT NULL, at TEXT NOT NULL);
ALTER TABLE updates ADD COLUMN failures INTEGER NOT NULL DEFAULT 0;
ALTER TABLE updates ADD COLUMN shown INTEGER NOT NULL DEFAULT 0;

-- to version 7
CREATE TABLE handed (
    peer TEXT PRIMARY KEY, public_key TEXT NOT NULL, mark TEXT NOT NULL, endpoint TEXT NOT NULL,
    kept INTEGER NOT NULL, at TEXT NOT NULL
);
CREATE TABLE made (tunnel TEXT PRIMARY KEY, mark TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE labels (public_key TEXT PRIMARY KEY, label TEXT NOT NULL);
CREATE TABLE heard (
    public_key TEXT PRIMARY KEY, tunnel TEXT NOT NULL, server TEXT NOT NULL, handshake TEXT, came_from TEXT,
    received INTEGER NOT NULL, sent INTEGER NOT NULL, at TEXT NOT NULL
);

-- to version 8
CREATE TABLE lent (
    gateway TEXT NOT NULL, transport TEXT NOT NULL, outside_port INTEGER NOT NULL, rule TEXT NOT NULL,
    before TEXT NOT NULL, until TEXT, PRIMARY KEY (gateway, transport, outside_port)
);

-- to version 9
CREATE TABLE revoked (
    peer TEXT PRIMARY KEY, tunnel TEXT NOT NULL, public_key TEXT NOT NULL, at TEXT NOT NULL, out TEXT,
    how TEXT NOT NULL
);

-- to version 10
-- Codes and values in the place of sentences, and places in the place of their names. What an earlier Hooper wrote
-- stays as its words, and what a survey measured is of use for an hour only, and is measured again.
CREATE TEMP TABLE was AS
    SELECT from_name AS name,
        CASE max(from_kind) WHEN 'proxy' THEN 'socks5://' ELSE max(from_kind) || ':' END AS kind
    FROM results WHERE from_kind != 'here' GROUP BY from_name;
UPDATE states SET aspect = coalesce((SELECT kind FROM was WHERE name = aspect), 'elsewhere:') || aspect
    WHERE kind = 'service' AND aspect != 'here';
UPDATE events SET aspect = coalesce((SELECT kind FROM was WHERE name = aspect), 'elsewhere:') || aspect
    WHERE kind = 'service' AND aspect != 'here';
UPDATE OR REPLACE days SET place = coalesce((SELECT kind FROM was WHERE name = place), 'elsewhere:') || place
    WHERE place != 'here';
DROP TABLE was;
UPDATE states SET aspect = 'service:' || substr(aspect, 4) WHERE kind = 'certificate' AND aspect LIKE 'at %';
UPDATE events SET aspect = 'service:' || substr(aspect, 4) WHERE kind = 'certificate' AND aspect LIKE 'at %';
UPDATE states SET state = replace(state, ' ', '-') WHERE kind IN ('tunnel', 'peer', 'certificate', 'keeper');
UPDATE events SET before = replace(before, ' ', '-'), after = replace(after, ' ', '-')
    WHERE kind IN ('tunnel', 'peer', 'certificate', 'keeper');
UPDATE states SET detail = CASE detail WHEN '' THEN json_array('', json_object())
    ELSE json_array('kept-before', json_object('words', detail)) END;
UPDATE events SET detail = CASE detail WHEN '' THEN json_array('', json_object())
    ELSE json_array('kept-before', json_object('words', detail)) END;
UPDATE seen SET source = json_array('kept-before', json_object('words', source));
UPDATE results SET document = json_set(document, '$.detail',
    json_array('kept-before', json_object('words', json_extract(document, '$.detail'))))
    WHERE json_valid(document) AND json_type(document, '$.detail') = 'text';
UPDATE results SET document = json_set(document, '$.evidence.public_address.source',
    json_array('kept-before', json_object('words', json_extract(document, '$.evidence.public_address.source'))))
    WHERE json_valid(document) AND json_type(document, '$.evidence.public_address.source') = 'text';
UPDATE results SET document = json_set(document, '$.evidence.place_address.source',
    json_array('kept-before', json_object('words', json_extract(document, '$.evidence.place_address.source'))))
    WHERE json_valid(document) AND json_type(document, '$.evidence.place_address.source') = 'text';
UPDATE results SET document = json_set(document, '$.evidence.certificate.browsers_warn',
    json_array('kept-before', json_object('words', json_extract(document, '$.evidence.certificate.browsers_warn'))))
    WHERE json_valid(document) AND json_type(document, '$.evidence.certificate.browsers_warn') = 'text';
DELETE FROM surveys;
UPDATE revoked SET how = CASE how WHEN 'seen at its server' THEN 'seen'
    WHEN 'its server has loaded its files' THEN 'loaded' ELSE how END;

-- to version 11
-- All evidence in one ledger. What a survey measured is of use for an hour only, and is measured again.
CREATE TABLE observations (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, run TEXT NOT NULL, subject TEXT NOT NULL, aspect TEXT NOT NULL,
    place TEXT NOT NULL, by TEXT NOT NULL, strength TEXT NOT NULL, basis TEXT NOT NULL, value TEXT NOT NULL
);
CREATE INDEX observations_by_subject ON observations (subject, aspect, at);
CREATE INDEX observations_by_source ON observations (by);
INSERT INTO observations (at, run, subject, aspect, place, by, strength, basis, value)
    SELECT at, '', 'services.' || service, CASE WHEN proves_outside THEN 'reach' ELSE 'reach@inside' END,
        CASE from_kind WHEN 'here' THEN 'here' WHEN 'proxy' THEN 'socks5://' || from_name
            ELSE from_kind || ':' || from_name END,
        'measured', '', '', document
    FROM results ORDER BY id;
INSERT INTO observations (at, run, subject, aspect, place, by, strength, basis, value)
    SELECT at, '', 'services.' || service, 'inside@' || transport || '/' || port, 'here', 'measured', '', '',
        json_array(verdict, fingerprint, greeting)
    FROM inside;
INSERT INTO observations (at, run, subject, aspect, place, by, strength, basis, value)
    SELECT at, '', 'lines.' || line, 'address', '', 'measured', '', '',
        json_array(address, CASE WHEN json_valid(source) THEN json(source) END)
    FROM seen;
CREATE TEMP TABLE was AS
    SELECT at, value, substr(key, 1, instr(key, ':') - 1) AS kind, substr(key, instr(key, ':') + 1) AS rest
    FROM told WHERE key GLOB '*:*' AND key NOT GLOB 'visit:*';
INSERT INTO observations (at, run, subject, aspect, place, by, strength, basis, value)
    SELECT at, '',
        CASE kind WHEN 'public' THEN 'lines.' WHEN 'at' THEN 'hosts.' WHEN 'rule' THEN 'services.'
            WHEN 'answer' THEN 'services.' WHEN 'way' THEN 'services.' WHEN 'saw' THEN 'services.'
            ELSE 'gateways.' END
            || CASE WHEN kind IN ('rule', 'answer', 'way') THEN substr(rest, 1, instr(rest, ':') - 1) ELSE rest END,
        CASE WHEN kind IN ('rule', 'answer', 'way') THEN kind || '@' || substr(rest, instr(rest, ':') + 1)
            ELSE kind END,
        '', CASE kind WHEN 'way' THEN 'inferred' ELSE 'told' END, '', '', json_quote(value)
    FROM was;
DROP TABLE was;
DELETE FROM told WHERE key GLOB '*:*' AND key NOT GLOB 'visit:*';
INSERT INTO observations (at, run, subject, aspect, place, by, strength, basis, value)
    SELECT at, '', 'tunnels.' || tunnel, 'handshake@' || public_key, '', 'read', '', '',
        json_array(server, handshake, came_from, received, sent)
    FROM heard;
DROP TABLE results;
DROP TABLE inside;
DROP TABLE seen;
DROP TABLE surveys;
DROP TABLE heard;
ALTER TABLE states ADD COLUMN basis TEXT NOT NULL DEFAULT '';
