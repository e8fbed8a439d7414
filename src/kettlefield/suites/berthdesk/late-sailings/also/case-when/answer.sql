SELECT route, COUNT(*) AS sailed,
       COUNT(CASE WHEN "left" - planned @@late.op@@ @@limit@@ THEN 1 END) AS late,
       CAST(COUNT(CASE WHEN "left" - planned @@late.op@@ @@limit@@ THEN 1 END) * 100 / COUNT(*) AS INTEGER) AS percent
FROM sailing
WHERE "left" IS NOT NULL
GROUP BY route
ORDER BY 4 @@order.dir@@, 1
