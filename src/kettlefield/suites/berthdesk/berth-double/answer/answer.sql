SELECT
    a.berth AS berth,
    a.ship AS first,
    b.ship AS second,
    MIN(a.leaves, b.leaves) - b.arrives AS minutes
FROM booking AS a
JOIN booking AS b
    ON a.berth = b.berth
    AND a.ship <> b.ship
    AND (a.arrives < b.arrives OR (a.arrives = b.arrives AND a.id @@tie.op@@ b.id))
    AND b.arrives < a.leaves
ORDER BY berth, minutes @@order.dir@@, first, second;
