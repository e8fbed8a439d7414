SELECT t.kiosk, t.day, t.pence,
  (SELECT SUM(e.pence) FROM takings e WHERE e.kiosk = t.kiosk AND e.day <= t.day) AS so_far,
  (SELECT MAX(e.pence) FROM takings e WHERE e.kiosk = t.kiosk AND e.day <= t.day) AS best
FROM takings t
ORDER BY t.kiosk ASC, t.day ASC
