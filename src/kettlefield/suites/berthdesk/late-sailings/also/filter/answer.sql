SELECT s.route AS route,
       COUNT(*) AS sailed,
       COUNT(*) FILTER (WHERE s."left" - s.planned @@late.op@@ @@limit@@) AS late,
       COUNT(*) FILTER (WHERE s."left" - s.planned @@late.op@@ @@limit@@) * 100 / COUNT(*) AS percent
FROM (SELECT * FROM sailing WHERE "left" NOTNULL) AS s
GROUP BY s.route
ORDER BY 4 @@order.dir@@, 1
