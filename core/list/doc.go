// Package list holds what orders must agree with: reference lists of codes and
// crosswalks between a partner's codes and ours, and finds the nearest known
// word for one that is not known.
package list
