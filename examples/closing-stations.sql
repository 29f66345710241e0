-- Larkwater: stations that were closed before 2019, written by hand. `yeldro review` finds what is wrong with it.
BEGIN;

DELETE FROM stations
WHERE closed_on < '2019-01-01';

-- their photos: too late, the stations' visits hold on to them
DELETE FROM photos
WHERE visit_id IN (SELECT v.id FROM visits AS v JOIN stations AS s ON s.id = v.station_id
                   WHERE s.closed_on < '2019-01-01');

-- trial stations, or closed ones on one river
DELETE FROM alerts
WHERE station_id IN (SELECT id FROM stations WHERE is_trial = 1 OR river_id = 4 AND closed_on IS NOT NULL);

-- readings that were uploaded twice
DELETE FROM readings
WHERE (sensor_id, measured_at) IN (SELECT sensor_id, measured_at FROM readings
                                   GROUP BY sensor_id, measured_at HAVING count(*) > 1);

-- sensors that replaced no other
DELETE FROM sensors
WHERE id NOT IN (SELECT replaced_by_id FROM sensors);

COMMIT;
