// Package docs holds the pages of the documentation that the program itself quotes.
package docs
