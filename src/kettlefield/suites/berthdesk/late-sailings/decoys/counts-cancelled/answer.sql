SELECT
    route,
    COUNT(*) AS sailed,
    SUM("left" > planned + 5) AS late,
    SUM("left" > planned + 5) * 100 / COUNT(*) AS percent
FROM sailing
GROUP BY route
ORDER BY percent DESC, route;
