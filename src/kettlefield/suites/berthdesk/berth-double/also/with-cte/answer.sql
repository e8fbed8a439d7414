WITH pair AS (
    SELECT a.berth, a.ship AS one, b.ship AS two,
        MAX(a.arrives, b.arrives) AS since, MIN(a.leaves, b.leaves) AS until
    FROM booking a, booking b
    WHERE a.berth = b.berth AND a.ship != b.ship
        AND (a.arrives, @@tie.sign@@a.id) < (b.arrives, @@tie.sign@@b.id)
)
SELECT berth, one AS "first", two AS "second", until - since AS minutes
FROM pair
WHERE until > since
ORDER BY berth, minutes @@order.dir@@, one, two
