-- +goose Up

-- What we sent is found by its group's number when a partner acknowledges it.
CREATE INDEX interchanges_by_group ON interchanges (partner, direction, group_control);
