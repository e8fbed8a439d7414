SELECT b.name AS name, COUNT(*) AS stays, COALESCE(SUM(s.hours), 0) AS hours
FROM berth AS b
LEFT JOIN stay AS s ON s.berth = b.name AND s.hours @@edge.op@@ @@least@@
GROUP BY b.name
ORDER BY hours @@order.dir@@, name;
