SELECT ship, COUNT(*) AS calls
FROM call
GROUP BY ship
ORDER BY ship;
