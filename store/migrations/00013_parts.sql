-- +goose Up
-- Every part of the configuration is one row, whatever its kind: its body is its JSON form. A new kind needs no table.
CREATE TABLE parts_next (
  kind TEXT NOT NULL,
  id TEXT NOT NULL, -- empty where there is one alone
  body TEXT NOT NULL,
  PRIMARY KEY (kind, id)
) WITHOUT ROWID;
INSERT INTO parts_next SELECT kind, id, body FROM parts;
INSERT INTO parts_next SELECT 'hub', '', value FROM hub WHERE key = 'site';
INSERT INTO parts_next SELECT key, '', value FROM hub WHERE key IN ('messaging', 'backups', 'panel');
INSERT INTO parts_next SELECT 'rights', '', json_object('lines', json(value)) FROM hub WHERE key = 'rights';
INSERT INTO parts_next SELECT 'place', id, json_object('id', id, 'name', name, 'facts', json(facts), 'picture', picture, 'position', position) FROM places;
INSERT INTO parts_next SELECT 'device', id, json_set(json_remove(settings, '$.wakes'), '$.id', id, '$.name', name, '$.place', place, '$.lease_ms', lease_ms,
  '$.new_signals', json(iif(new_signals, 'true', 'false')), '$.created', strftime('%Y-%m-%dT%H:%M:%fZ', created_ms / 1000.0, 'unixepoch'),
  '$.wakes_ms', coalesce(json_extract(settings, '$.wakes'), 0) / 1000000) FROM devices;
INSERT INTO parts_next SELECT 'signal', id, json_set(settings, '$.id', id, '$.device', device, '$.raw', raw, '$.name', name, '$.kind', kind, '$.unit', unit,
  '$.decimals', decimals, '$.reports', reports, '$.interval_ms', interval_ms, '$.new', json(iif(is_new, 'true', 'false')), '$.guests', guests) FROM signals;
INSERT INTO parts_next SELECT 'control', id, json_set(settings, '$.id', id, '$.device', device, '$.raw', raw, '$.name', name, '$.confirm_after_ms', confirm_ms,
  '$.resume_within_ms', resume_ms, '$.safe', safe, '$.dangerous', json(iif(dangerous, 'true', 'false')), '$.at_device', at_device,
  '$.answers', json(iif(answers, 'true', 'false')), '$.guests', guests) FROM controls;
INSERT INTO parts_next SELECT 'broker', id, body FROM brokers;
INSERT INTO parts_next SELECT 'model', id, body FROM models;
INSERT INTO parts_next SELECT 'dashboard', id, body FROM dashboards;

-- What must not be shown, with the part that it belongs to: passwords that others ask for, as they are, and the SHA-256 of devices' keys.
CREATE TABLE secrets (
  kind TEXT NOT NULL,
  id TEXT NOT NULL,
  name TEXT NOT NULL,
  value TEXT NOT NULL,
  PRIMARY KEY (kind, id, name)
) WITHOUT ROWID;
INSERT INTO secrets SELECT 'device', id, 'key', lower(hex(key_hash)) FROM devices;
INSERT INTO secrets SELECT 'broker', id, 'password', password FROM brokers WHERE password <> '';
INSERT INTO secrets SELECT 'device', substr(key, 24), 'camera', value FROM hub WHERE substr(key, 1, 23) = 'secret camera password ';
INSERT INTO secrets SELECT 'messaging', '', 'password', value FROM hub WHERE key = 'secret mail password' AND value <> '';
INSERT INTO secrets SELECT 'backups', '', 'passphrase', value FROM hub WHERE key = 'secret backup passphrase' AND value <> '';
INSERT INTO secrets SELECT 'backups', '', 'password', value FROM hub WHERE key = 'secret backup elsewhere' AND value <> '';
INSERT INTO secrets SELECT 'hub', '', substr(key, 8), value FROM hub WHERE substr(key, 1, 7) = 'secret ' AND substr(key, 1, 23) <> 'secret camera password '
  AND key NOT IN ('secret mail password', 'secret backup passphrase', 'secret backup elsewhere');
DELETE FROM hub WHERE key NOT IN ('alive', 'clock');

-- Earlier versions are of the same kinds and forms.
UPDATE versions SET
  body = json_remove(json_set(body, '$.lease_ms', coalesce(json_extract(body, '$.lease'), 0) / 1000000, '$.wakes_ms', coalesce(json_extract(body, '$.wakes'), 0) / 1000000), '$.lease', '$.wakes'),
  after = iif(after = '', '', json_remove(json_set(iif(after = '', '{}', after), '$.lease_ms', coalesce(json_extract(iif(after = '', '{}', after), '$.lease'), 0) / 1000000,
    '$.wakes_ms', coalesce(json_extract(iif(after = '', '{}', after), '$.wakes'), 0) / 1000000), '$.lease', '$.wakes')) WHERE kind = 'site.Device';
UPDATE versions SET
  body = json_remove(json_set(body, '$.interval_ms', coalesce(json_extract(body, '$.interval'), 0) / 1000000), '$.interval'),
  after = iif(after = '', '', json_remove(json_set(iif(after = '', '{}', after), '$.interval_ms', coalesce(json_extract(iif(after = '', '{}', after), '$.interval'), 0) / 1000000), '$.interval'))
  WHERE kind = 'site.Signal';
UPDATE versions SET
  body = json_remove(json_set(body, '$.confirm_after_ms', coalesce(json_extract(body, '$.confirm_after'), 0) / 1000000, '$.resume_within_ms', coalesce(json_extract(body, '$.resume_within'), 0) / 1000000),
    '$.confirm_after', '$.resume_within'),
  after = iif(after = '', '', json_remove(json_set(iif(after = '', '{}', after), '$.confirm_after_ms', coalesce(json_extract(iif(after = '', '{}', after), '$.confirm_after'), 0) / 1000000,
    '$.resume_within_ms', coalesce(json_extract(iif(after = '', '{}', after), '$.resume_within'), 0) / 1000000), '$.confirm_after', '$.resume_within')) WHERE kind = 'site.Control';
UPDATE versions SET kind = iif(kind = 'hub.rightsOf', 'rights', lower(substr(kind, 6))) WHERE kind = 'hub.rightsOf' OR substr(kind, 1, 5) = 'site.';

DROP TABLE signals;
DROP TABLE controls;
DROP TABLE devices;
DROP TABLE places;
DROP TABLE brokers;
DROP TABLE models;
DROP TABLE dashboards;
DROP TABLE parts;
ALTER TABLE parts_next RENAME TO parts;

-- +goose Down
SELECT 1;
