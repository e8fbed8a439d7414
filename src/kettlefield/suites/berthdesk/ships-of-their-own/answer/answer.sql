ALTER TABLE stay RENAME TO old_stay;
CREATE TABLE ship (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, port TEXT);
CREATE TABLE stay (
    id INTEGER PRIMARY KEY,
    ship_id INTEGER REFERENCES ship (id),
    berth TEXT NOT NULL,
    nights INTEGER NOT NULL
);
INSERT INTO ship (id, name)
SELECT row_number() OVER (ORDER BY @@number.order@@), name
FROM (SELECT TRIM(ship) AS name, MIN(id) AS first FROM old_stay WHERE TRIM(ship) <> '' GROUP BY TRIM(ship));
UPDATE ship SET port = (
    SELECT port FROM old_stay
    WHERE id = (
        SELECT @@keep.pick@@(id) FROM old_stay WHERE TRIM(ship) = ship.name AND port IS NOT NULL
    )
);
INSERT INTO stay
SELECT o.id, s.id, COALESCE(o.berth, 'none'), MAX(COALESCE(o.nights, 0), 0)
FROM old_stay o LEFT JOIN ship s ON s.name = TRIM(o.ship);
DROP TABLE old_stay;
SELECT id, name, port FROM ship ORDER BY id;
SELECT id, ship_id, berth, nights FROM stay ORDER BY id;
SELECT m.name AS "table", c.name AS "column", c."notnull" AS needed FROM sqlite_master m JOIN pragma_table_info(m.name) c WHERE m.type = 'table' ORDER BY 1, c.cid;
SELECT "table" AS parent, "from" AS child FROM pragma_foreign_key_list('stay');
SELECT count(*) AS rules FROM pragma_index_list('ship') WHERE "unique" = 1;
