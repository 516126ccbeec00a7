CREATE TABLE buoy (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, retired_on DATE, replaces_id INTEGER REFERENCES buoy (id) ON DELETE SET NULL);
CREATE TABLE sensor (id INTEGER PRIMARY KEY, buoy_id INTEGER NOT NULL REFERENCES buoy (id) ON DELETE CASCADE, kind VARCHAR(10));
CREATE TABLE visit (buoy_id INTEGER NOT NULL REFERENCES buoy (id), visit_no INTEGER NOT NULL, "order" VARCHAR(9), PRIMARY KEY (buoy_id, visit_no));
CREATE TABLE part_used (buoy_id INTEGER NOT NULL, visit_no INTEGER NOT NULL, part VARCHAR(10) NOT NULL, PRIMARY KEY (buoy_id, visit_no, part), FOREIGN KEY (buoy_id, visit_no) REFERENCES visit (buoy_id, visit_no) ON DELETE CASCADE);
INSERT INTO buoy VALUES (1,'Eddy','2019-05-01',NULL),(2,'Anvil',NULL,1),(3,'Eddy','2020-01-31',NULL),(4,'Marl','2018-07-07',3);
INSERT INTO sensor VALUES (1,1,'wind'),(2,1,'wave'),(3,2,'wind'),(4,3,'wind'),(5,3,'wind');
INSERT INTO visit VALUES (1,1,'a'),(1,2,'b'),(3,1,'c'),(2,1,'d');
INSERT INTO part_used VALUES (1,1,'bolt'),(1,2,'nut'),(3,1,'bolt');
