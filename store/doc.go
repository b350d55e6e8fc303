// Package store keeps Koinos's data: documents as files named by their SHA-256, everything else in one SQLite database.
// There is one writer, whose work is batched in transactions. Readers run at the same time and never wait.
package store
