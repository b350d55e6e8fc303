// Package list holds what orders must agree with: reference lists of codes, and crosswalks between a partner's codes
// and ours. It also finds the nearest known word for an unknown one.
package list
