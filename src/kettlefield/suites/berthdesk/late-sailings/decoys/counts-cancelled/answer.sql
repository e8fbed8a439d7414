SELECT
    route,
    COUNT(*) AS sailed,
    SUM("left" @@late.op@@ planned + @@limit@@) AS late,
    SUM("left" @@late.op@@ planned + @@limit@@) * 100 / COUNT(*) AS percent
FROM sailing
GROUP BY route
ORDER BY percent @@order.dir@@, route;
