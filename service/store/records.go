package store

import "proudsieve/service/records"

// The records that the store keeps.
type (
	Arrival     = records.Arrival
	Audit       = records.Audit
	Certificate = records.Certificate
	Dataset     = records.Dataset
	Declaration = records.Declaration
	Database    = records.Database
	Credential  = records.Credential
	Fetch       = records.Fetch
	Hit         = records.Hit
	Found       = records.Found
	Deed        = records.Deed
	Issue       = records.Issue
	IssueEntry  = records.IssueEntry
	Waiver      = records.Waiver
	Decision    = records.Decision
	Sheet       = records.Sheet
	Notice      = records.Notice
	Receiver    = records.Receiver
	Sending     = records.Sending
	Question    = records.Question
	Job         = records.Job
	Person      = records.Person
	Token       = records.Token
	Table       = records.Table
	Withdrawal  = records.Withdrawal
	Page[T any] = records.Page[T]
)
