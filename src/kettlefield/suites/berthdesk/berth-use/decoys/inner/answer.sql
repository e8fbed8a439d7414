SELECT b.name AS name, COUNT(s.ship) AS stays, COALESCE(SUM(s.hours), 0) AS hours
FROM berth AS b
JOIN stay AS s ON s.berth = b.name AND s.hours @@edge.op@@ @@least@@
GROUP BY b.name
ORDER BY hours @@order.dir@@, name;
