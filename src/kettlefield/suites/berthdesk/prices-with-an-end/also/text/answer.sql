ALTER TABLE fare RENAME TO was;
CREATE TABLE fare (id INTEGER PRIMARY KEY, route TEXT NOT NULL, pence INTEGER NOT NULL, begins TEXT, ends TEXT);
DELETE FROM was WHERE EXISTS (
    SELECT 1 FROM was AS other
    WHERE other.route = was.route AND other.valid IS was.valid AND other.id <> was.id
      AND CASE '@@twice.pick@@' WHEN 'MAX' THEN other.id > was.id ELSE other.id < was.id END
);
INSERT INTO fare
SELECT
    id,
    route,
    CASE instr(pounds, '.')
        WHEN 0 THEN pounds * 100
        ELSE substr(pounds, 1, instr(pounds, '.') - 1) * 100 + substr(substr(pounds, instr(pounds, '.') + 1) || '0', 1, 2)
    END,
    valid,
    (SELECT date(min(valid), '@@end.shift@@') FROM was AS next
     WHERE next.route = was.route AND next.valid IS NOT NULL AND (was.valid IS NULL OR next.valid > was.valid))
FROM was;
DROP TABLE was;
SELECT id, route, pence, begins, ends FROM fare ORDER BY id;
SELECT name, type, "notnull" AS needed FROM pragma_table_info('fare') ORDER BY cid;
SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name;
