SELECT name,
       (SELECT COUNT(*) FROM stay WHERE stay.berth = berth.name AND stay.hours @@edge.op@@ @@least@@) AS stays,
       (SELECT IFNULL(SUM(hours), 0) FROM stay WHERE stay.berth = berth.name AND stay.hours @@edge.op@@ @@least@@) + 0 AS hours
FROM berth
ORDER BY hours @@order.dir@@, name
