-- Table: CREATE TABLE tide (month INTEGER NOT NULL, day INTEGER NOT NULL, height INTEGER NOT NULL);
-- For each month the day of its @@tide.says@@ tide: columns month, day and height, ordered by month.
-- Of equal heights in a month the @@day.says@@ day counts.
SELECT month, day, height
FROM (
    SELECT month, day, height, ROW_NUMBER() OVER (PARTITION BY month ORDER BY height @@tide.dir@@, day @@day.dir@@) AS place
    FROM tide
)
WHERE place = 1
ORDER BY month;
