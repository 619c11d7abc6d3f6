"""Tools that make what is shipped beside the code: the snapshot, the documents, the pictures, the single file."""
