"""What project files of MSBuild say, worked out as MSBuild does, without running it (learn.microsoft.com, "MSBuild").

`expressions` reads `$(…)`, `conditions` decides `Condition`, `evaluating` goes through the files, and `project` is what
comes out; `starting` reads what lies beside it.
"""
