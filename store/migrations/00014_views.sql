-- +goose Up
-- Views of charts are parts as any other; a camera's password is called as it is entered.
INSERT INTO parts (kind, id, body) SELECT 'view', 'view_' || id, json_object('id', 'view_' || id, 'name', name, 'view', view,
  'shared', json(iif(shared, 'true', 'false')), 'by', account) FROM views;
DROP TABLE views;
UPDATE secrets SET name = 'camera_password' WHERE kind = 'device' AND name = 'camera';

-- +goose Down
SELECT 1;
