"""Pages: what a style of them must do, and one module a style."""
