package definition

import _ "embed" // the schema

// Schema is the JSON Schema (2020-12) of a workflow, for editors. It knows the
// shape of the file; what hangs on its content, such as circles, the reader
// finds.
//
//go:embed schema.json
var Schema string
