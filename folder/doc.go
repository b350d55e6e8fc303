// Package folder loads the documents that people or programs put into folders. It takes each file once it has stopped
// growing, and puts a marked-up copy beside it afterwards.
package folder
