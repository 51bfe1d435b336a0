"""What is told in words and columns: one neutral record of it, the sentences, and one renderer for terminals.

No module here imports the rooms of the results at run time, so that results of every room can tell themselves.
"""
