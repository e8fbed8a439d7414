WITH RECURSIVE calendar(day) AS (
    SELECT MIN(day) FROM watch HAVING MIN(day) IS NOT NULL
    UNION ALL
    SELECT day + 1 FROM calendar WHERE day < (SELECT MAX(day) FROM watch)
)
SELECT calendar.day AS day, COUNT(@@names.what@@watch.name) AS names
FROM calendar
LEFT JOIN watch ON watch.day = calendar.day
GROUP BY calendar.day
ORDER BY calendar.day@@order.dir@@;
