CREATE INDEX passenger_by_sailing ON passenger (sailing);
