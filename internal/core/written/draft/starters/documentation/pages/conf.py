project = "Heron Weir"
author = "the volunteers"
html_theme = "alabaster"
extensions = []
