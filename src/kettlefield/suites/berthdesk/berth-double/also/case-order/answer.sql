SELECT x.berth,
       CASE WHEN x.arrives < y.arrives OR (x.arrives = y.arrives AND x.id @@tie.op@@ y.id) THEN x.ship ELSE y.ship END AS first,
       CASE WHEN x.arrives < y.arrives OR (x.arrives = y.arrives AND x.id @@tie.op@@ y.id) THEN y.ship ELSE x.ship END AS second,
       min(x.leaves, y.leaves) - max(x.arrives, y.arrives) AS minutes
FROM booking x, booking y
WHERE x.id < y.id
  AND x.berth = y.berth
  AND x.ship != y.ship
  AND max(x.arrives, y.arrives) < min(x.leaves, y.leaves)
ORDER BY 1, 4 @@order.dir@@, 2, 3
