"""What has a stack of layers, a file for each sort: how it is named, solved and seen. Found as kinds are."""
