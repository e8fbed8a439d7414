SELECT t.kiosk, t.day, t.pence,
       (SELECT SUM(o.pence) FROM takings o WHERE o.kiosk = t.kiosk AND o.day <= t.day) AS so_far,
       (SELECT @@mark.fn@@(o.pence) FROM takings o WHERE o.kiosk = t.kiosk AND o.day <= t.day) AS mark
FROM takings t
ORDER BY t.kiosk, t.day @@days.dir@@
