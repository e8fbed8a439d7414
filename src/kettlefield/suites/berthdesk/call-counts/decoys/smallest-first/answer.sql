SELECT ship, COUNT(*) AS calls, SUM(minutes) AS minutes
FROM call
GROUP BY ship
ORDER BY minutes @@top.other@@, ship@@ties.dir@@;
