-- Table: CREATE TABLE tide (month INTEGER NOT NULL, day INTEGER NOT NULL, height INTEGER NOT NULL);
-- For each month the day of its @@tide.says@@ tide: columns month, day and height, ordered by month.
-- Of equal heights in a month the @@day.says@@ day counts.
SELECT month, @@day.fn@@(day) AS day, height
FROM tide AS t
WHERE height = (SELECT @@tide.fn@@(height) FROM tide AS other WHERE other.month = t.month)
GROUP BY month
ORDER BY month;
