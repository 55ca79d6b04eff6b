"""Reading and writing files.  Each format has a module or a folder of its own."""
