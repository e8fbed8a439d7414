SELECT
    kiosk,
    day,
    pence,
    SUM(pence) OVER (PARTITION BY kiosk ORDER BY day) AS so_far,
    MAX(pence) OVER (PARTITION BY kiosk ORDER BY day) AS best
FROM takings
ORDER BY day, kiosk;
