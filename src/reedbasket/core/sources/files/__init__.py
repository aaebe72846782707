"""Files as sources: file stores, file formats, and copies of files."""
