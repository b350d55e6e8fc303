-- +goose Up

-- A partner can want each control number of a functional group to come once.
CREATE INDEX sets_by_group ON sets (ltrim(group_control, '0'), interchange);
