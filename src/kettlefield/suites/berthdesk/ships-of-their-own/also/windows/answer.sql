PRAGMA foreign_keys = OFF;
BEGIN;
CREATE TEMP TABLE named AS SELECT id, trim(ship) AS name, port, berth, nights FROM stay;
DROP TABLE stay;
CREATE TABLE ship (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, port TEXT);
CREATE TABLE stay (id INTEGER PRIMARY KEY, ship_id INTEGER REFERENCES ship (id), berth TEXT NOT NULL, nights INTEGER NOT NULL);
INSERT INTO ship (name, port)
WITH ranked AS (
    SELECT name, port, row_number() OVER (PARTITION BY name ORDER BY port IS NULL, id @@keep.order@@) AS place, min(id) OVER (PARTITION BY name) AS first
    FROM named WHERE name <> ''
)
SELECT name, port FROM ranked WHERE place = 1 ORDER BY @@number.order@@;
INSERT INTO stay
SELECT id, (SELECT ship.id FROM ship WHERE ship.name = named.name), ifnull(berth, 'none'), CASE WHEN nights > 0 THEN nights ELSE 0 END
FROM named;
DROP TABLE named;
COMMIT;
SELECT id, name, port FROM ship ORDER BY id;
SELECT id, ship_id, berth, nights FROM stay ORDER BY id;
SELECT m.name AS "table", c.name AS "column", c."notnull" AS needed FROM sqlite_master m JOIN pragma_table_info(m.name) c WHERE m.type = 'table' ORDER BY 1, c.cid;
SELECT "table" AS parent, "from" AS child FROM pragma_foreign_key_list('stay');
SELECT count(*) AS rules FROM pragma_index_list('ship') WHERE "unique" = 1;
