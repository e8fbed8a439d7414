SELECT ship, calls, minutes
FROM (
    SELECT c.ship AS ship, COUNT(c.id) AS calls, TOTAL(c.minutes) AS total, SUM(c.minutes) AS minutes
    FROM call AS c
    GROUP BY c.ship
)
ORDER BY total @@top.dir@@, ship@@ties.dir@@;
