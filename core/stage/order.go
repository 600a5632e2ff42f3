package stage

// The order of the work. What one stage says of another it says by these.
const (
	Intake  Key = "intake"
	Levels  Key = "levels"
	Pocket  Key = "pocket"
	Duck    Key = "duck"
	Room    Key = "room"
	Body    Key = "body"
	Width   Key = "width"
	Compare Key = "compare"
	Print   Key = "print"
	Log     Key = "log"
)
