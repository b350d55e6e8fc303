// Package listfile reads and writes reference lists and crosswalks as CSV and workbooks.
package listfile
