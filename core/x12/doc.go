// Package x12 reads ANSI ASC X12 interchanges: segments and elements, the
// envelope of interchanges, functional groups and transaction sets, and what
// the dictionary (dictionary.txt) says of sets, segments, elements and codes.
//
// A Reader streams: it holds one transaction set at a time. Every byte of a
// document belongs to a segment, to the line ends between segments, or to a
// finding. What is wrong is said with the place, the standard's own error code,
// and words; one bad set does not stop its neighbours, and after a broken part
// reading goes on at the next ISA, GS or ST.
package x12
