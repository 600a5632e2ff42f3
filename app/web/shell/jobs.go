package shell

// ReferenceJob is the kind of the jobs that take a finished track in.
const ReferenceJob = "reference"

// VoiceJob is the kind of the jobs that take in a voice to leave room for.
const VoiceJob = "voice"

// SplitJob is the kind of the jobs that take a stem's file apart.
const SplitJob = "split"

// BounceJob is the kind of the jobs that take in a file of a song's bounce folder.
const BounceJob = "bounce"

// PrintJob is the kind of the jobs that print what goes out.
const PrintJob = "print"

// ApplyJob is the kind of the jobs that make what is ticked on the run sheet.
const ApplyJob = "apply"
