SELECT name,
       (SELECT COUNT(*) FROM stay WHERE stay.berth = berth.name AND stay.hours >= @@least@@) AS stays,
       (SELECT IFNULL(SUM(hours), 0) FROM stay WHERE stay.berth = berth.name AND stay.hours >= @@least@@) + 0 AS hours
FROM berth
ORDER BY hours DESC, name
