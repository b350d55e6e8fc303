// Package web holds the console's built files.
package web
