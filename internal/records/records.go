// Package records is what the program knows, as the application, the API, exports
// and the store speak of it: systems, accounts, dependents, credentials, findings,
// rotations, persons. A record has no SQL and no way to anything; the store alone
// turns rows of tables into records and back, so that tables can change without the
// API. Answers of the API that are more than a record are made in package service.
package records
