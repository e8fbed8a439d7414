SELECT s.route AS route,
       COUNT(*) AS sailed,
       COUNT(*) FILTER (WHERE s."left" - s.planned > @@limit@@) AS late,
       COUNT(*) FILTER (WHERE s."left" - s.planned > @@limit@@) * 100 / COUNT(*) AS percent
FROM (SELECT * FROM sailing WHERE "left" NOTNULL) AS s
GROUP BY s.route
ORDER BY 4 DESC, 1
