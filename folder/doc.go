// Package folder loads the documents that people or programs put into folders:
// each file once it has stopped growing, with its marked-up copy beside it
// afterwards.
package folder
