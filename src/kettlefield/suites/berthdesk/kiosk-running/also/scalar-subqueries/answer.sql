SELECT t.kiosk, t.day, t.pence,
  (SELECT SUM(e.pence) FROM takings e WHERE e.kiosk = t.kiosk AND e.day <= t.day) AS so_far,
  (SELECT @@mark.fn@@(e.pence) FROM takings e WHERE e.kiosk = t.kiosk AND e.day <= t.day) AS mark
FROM takings t
ORDER BY t.kiosk ASC, t.day @@days.dir@@
