"""Figures of the code's shape: how long and how dense its functions are. Usage: ./dev shape
[FOLDER]"""

import ast
import sys
import tokenize
from collections.abc import Iterator
from pathlib import Path
from statistics import median

DECISIONS = (ast.If, ast.For, ast.AsyncFor, ast.While, ast.ExceptHandler, ast.IfExp, ast.Assert)
COMPREHENSIONS = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
LIMIT = 15
FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
Function = ast.FunctionDef | ast.AsyncFunctionDef


def count_decisions(tree: ast.AST) -> int:
    """Branches, loops, handlers, conditions of comprehensions, cases, and each `and` or `or`."""
    total = 0
    for node in ast.walk(tree):
        match node:
            case ast.BoolOp():
                total += len(node.values) - 1
            case ast.comprehension():
                total += 1 + len(node.ifs)
            case ast.match_case():
                total += 1
            case _ if isinstance(node, DECISIONS):
                total += 1
    return total


def find_functions(tree: ast.AST) -> Iterator[Function]:
    return (node for node in ast.walk(tree) if isinstance(node, FUNCTIONS))


def count_lines(function: Function) -> int:
    """The lines of the body, without its docstring."""
    body = function.body
    if ast.get_docstring(function) is not None:
        body = body[1:]
    if not body:
        return 0
    return (body[-1].end_lineno or 0) - body[0].lineno + 1


def count_comments(path: Path) -> int:
    with path.open("rb") as file:
        return sum(token.type == tokenize.COMMENT for token in tokenize.tokenize(file.readline))


def find_complex(path: Path) -> Iterator[str]:
    """Functions with more decisions than a reader can hold in mind, each with its place."""
    for function in find_functions(ast.parse(path.read_text(encoding="utf-8"))):
        complexity = 1 + count_decisions(function)
        if complexity > LIMIT:
            yield f"{path}:{function.lineno}: {function.name} has a complexity of {complexity}"


def check() -> None:
    """Stop where a function is over the limit: take it apart along what it decides."""
    found = [line for path in sorted(Path("src").rglob("*.py")) for line in find_complex(path)]
    if found:
        sys.exit("\n".join(found))


def main() -> None:
    if sys.argv[1:] == ["--check"]:
        return check()
    folder = Path(sys.argv[1] if sys.argv[1:] else "src/yeldro")
    paths = sorted(folder.rglob("*.py"))
    texts = [path.read_text(encoding="utf-8") for path in paths]
    trees = [ast.parse(text) for text in texts]
    lines = [line for text in texts for line in text.splitlines() if line.strip()]
    functions = [function for tree in trees for function in find_functions(tree)]
    lengths = sorted(count_lines(function) for function in functions)
    complexities = [1 + count_decisions(function) for function in functions]
    nodes = [node for tree in trees for node in ast.walk(tree)]
    thousands = len(lines) / 1000
    long_lines = sum(len(line) > 100 for line in lines)
    comprehensions = sum(isinstance(node, COMPREHENSIONS) for node in nodes)
    ternaries = sum(isinstance(node, ast.IfExp) for node in nodes)
    figures = {
        "files": f"{len(paths)}",
        "lines that are not blank": f"{len(lines):,}",
        "function lines, median": f"{median(lengths):g}",
        "function lines, 90 %": f"{lengths[len(lengths) * 9 // 10]}",
        "function lines, longest": f"{lengths[-1]}",
        "decisions per 100 lines": f"{sum(map(count_decisions, trees)) / len(lines) * 100:.0f}",
        "functions over complexity 15": f"{sum(one > 15 for one in complexities)}",
        "functions over complexity 12": f"{sum(one > 12 for one in complexities)}",
        "comprehensions per 1,000 lines": f"{comprehensions / thousands:.0f}",
        "ternaries per 1,000 lines": f"{ternaries / thousands:.0f}",
        "comment lines": f"{100 * sum(map(count_comments, paths)) / len(lines):.1f} %",
        "lines over 100 characters": f"{100 * long_lines / len(lines):.1f} %",
    }
    for name, figure in figures.items():
        sys.stdout.write(f"{name:32} {figure:>8}\n")


if __name__ == "__main__":
    main()
