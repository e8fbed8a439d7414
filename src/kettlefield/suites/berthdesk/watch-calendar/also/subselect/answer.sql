WITH RECURSIVE
    bounds AS (SELECT MIN(day) AS low, MAX(day) AS high FROM watch),
    days AS (
        SELECT low AS day, high FROM bounds WHERE low IS NOT NULL
        UNION ALL
        SELECT day + 1, high FROM days WHERE day < high
    )
SELECT d.day, (SELECT COUNT(@@names.what@@w.name) FROM watch w WHERE w.day = d.day) AS names
FROM days d
ORDER BY d.day@@order.dir@@
