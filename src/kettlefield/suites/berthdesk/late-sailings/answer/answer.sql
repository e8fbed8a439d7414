SELECT
    route,
    COUNT("left") AS sailed,
    SUM("left" @@late.op@@ planned + @@limit@@) AS late,
    SUM("left" @@late.op@@ planned + @@limit@@) * 100 / COUNT("left") AS percent
FROM sailing
WHERE "left" IS NOT NULL
GROUP BY route
ORDER BY percent @@order.dir@@, route;
