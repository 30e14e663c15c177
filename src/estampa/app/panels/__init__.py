"""The panels at the right: the sheet, maps, joints, the press, loops, remarks."""
