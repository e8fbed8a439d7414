SELECT ship, COUNT(DISTINCT ship) AS calls
FROM call
GROUP BY ship
ORDER BY ship;
