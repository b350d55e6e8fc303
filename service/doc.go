// Package service is Koinos over HTTP: the API under /api/v1, made of typed handlers from which its OpenAPI 3.1
// description is generated, the console's files, and health and metrics for those who operate it.
package service
