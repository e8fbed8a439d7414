SELECT
    route,
    COUNT(*) AS sailed,
    SUM("left" > planned + @@limit@@) AS late,
    SUM("left" > planned + @@limit@@) * 100 / COUNT(*) AS percent
FROM sailing
GROUP BY route
ORDER BY percent DESC, route;
