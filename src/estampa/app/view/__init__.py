"""The picture: panes, how they are drawn, and the tools that act in them."""
