SELECT
    kiosk,
    day,
    pence,
    SUM(pence) OVER (PARTITION BY kiosk ORDER BY day) AS so_far,
    @@mark.fn@@(pence) OVER (PARTITION BY kiosk) AS mark
FROM takings
ORDER BY kiosk, day @@days.dir@@;
