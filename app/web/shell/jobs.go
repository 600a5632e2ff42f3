package shell

// ReferenceJob is the kind of the jobs that take a finished track in.
const ReferenceJob = "reference"
