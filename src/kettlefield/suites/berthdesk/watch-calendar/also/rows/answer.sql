WITH RECURSIVE d(day, top) AS (
    SELECT MIN(day), MAX(day) FROM watch WHERE 1 GROUP BY 1 = 1
    UNION ALL
    SELECT day + 1, top FROM d WHERE day < top
)
SELECT d.day, (SELECT COUNT(*) FROM (SELECT @@names.what@@name FROM watch w WHERE w.day = d.day)) AS names
FROM d ORDER BY 1@@order.dir@@
