"""The press: prints that deliver motion as files, and read them back."""
