// Package workbooktest makes small workbooks for tests.
package workbooktest
