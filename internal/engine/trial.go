package engine

// Trial is how an engine imitates what tests do to a database, so that the ways to put it
// back can be measured. All are statements of its language.
type Trial struct {
	Nothing string // reads alone
	// Tables lists the tables of a database, the name as a statement has it and the number
	// of rows, nil where that is to be counted; "" where there are no tables.
	Tables string
	// Few changes a row of a table, Many a large part of its rows; without tables they are
	// called once, with "".
	Few, Many func(table string) string
	// Schema changes the schema; "" where there is none.
	Schema string
	// Empty is what is written by hand to empty tables.
	Empty func(tables []string) string
}
