SELECT name,
       SUM(CASE WHEN stay.hours @@edge.op@@ @@least@@ THEN 1 ELSE 0 END) AS stays,
       SUM(CASE WHEN stay.hours @@edge.op@@ @@least@@ THEN stay.hours ELSE 0 END) AS hours
FROM berth
LEFT OUTER JOIN stay ON stay.berth = berth.name
GROUP BY berth.name
ORDER BY 3 @@order.dir@@, 1
