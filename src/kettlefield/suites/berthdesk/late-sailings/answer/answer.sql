SELECT
    route,
    COUNT("left") AS sailed,
    SUM("left" > planned + @@limit@@) AS late,
    SUM("left" > planned + @@limit@@) * 100 / COUNT("left") AS percent
FROM sailing
WHERE "left" IS NOT NULL
GROUP BY route
ORDER BY percent DESC, route;
