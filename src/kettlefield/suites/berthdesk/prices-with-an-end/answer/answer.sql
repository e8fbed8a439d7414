CREATE TABLE priced (id INTEGER PRIMARY KEY, route TEXT NOT NULL, pence INTEGER NOT NULL, begins TEXT, ends TEXT);
INSERT INTO priced
WITH counting AS (
    SELECT * FROM fare
    WHERE id IN (SELECT @@twice.pick@@(id) FROM fare GROUP BY route, valid)
)
SELECT
    id,
    route,
    CAST(ROUND(CAST(pounds AS REAL) * 100) AS INTEGER),
    valid,
    date(LEAD(valid) OVER (PARTITION BY route ORDER BY valid), '@@end.shift@@')
FROM counting;
DROP TABLE fare;
ALTER TABLE priced RENAME TO fare;
SELECT id, route, pence, begins, ends FROM fare ORDER BY id;
SELECT name, type, "notnull" AS needed FROM pragma_table_info('fare') ORDER BY cid;
SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name;
