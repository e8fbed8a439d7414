WITH per_ship AS (SELECT ship, COUNT(id) AS calls, SUM(minutes) AS minutes FROM call GROUP BY ship)
SELECT * FROM per_ship ORDER BY minutes @@top.dir@@, ship@@ties.dir@@
