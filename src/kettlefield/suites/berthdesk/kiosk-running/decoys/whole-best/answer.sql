SELECT
    kiosk,
    day,
    pence,
    SUM(pence) OVER (PARTITION BY kiosk ORDER BY day) AS so_far,
    MAX(pence) OVER (PARTITION BY kiosk) AS best
FROM takings
ORDER BY kiosk, day;
