-- +goose Up
CREATE INDEX arrivals_short ON arrivals (system, record) WHERE state = 'short';
