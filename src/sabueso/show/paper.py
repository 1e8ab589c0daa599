def write_paper(case): return []
