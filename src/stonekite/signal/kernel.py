"""What compiles kernels, and what they have in common.

`kernel` is for what is called from Python, `inner` for what kernels call, `inlined` for what becomes part of each of
its callers. Compiling is what a new user waits for, so there is as little of it as can be. Kernels allocate nothing, and
work on arrays that their callers own: so no references are counted. What is not called from Python has no way in from
there, and is made better and into machine code together with what calls it, once. Whole numbers that are written down
make no version of their own. And there are `lesser`, `greater`, `copied` and `filled`, because Numba compiles its own
anew for each combination of types.
"""

from collections.abc import Callable
from typing import Any, TypeVar

from numba import extending, njit, types
from numba.core.codegen import JITCodeLibrary
from numba.core.compiler import Compiler, Flags

from stonekite.signal.kept_kernels import Kept

Function = TypeVar("Function", bound=Callable[..., Any])


def intrinsic(function: Callable[..., Any]) -> Callable[..., Any]:
    """What writes its own machine code: kernels call it without the typing context that it is written with."""
    made: Callable[..., Any] = extending.intrinsic(function)
    return made


class _Entry(JITCodeLibrary):
    """The code of a kernel. What is tidied before it is linked needs no more than the first level."""

    def _optimize_functions(self, module: Any) -> None:
        module.data_layout = self._codegen._data_layout
        passes, builder = self._codegen._function_pass_manager(opt=1)
        for function in module.functions:
            passes.run(function, builder)


class _Part(_Entry):
    """The code of what only other kernels call: made better and into machine code once, together with theirs."""

    def _optimize_final_module(self) -> None:
        pass

    def _finalize_final_module(self) -> None:
        pass

    def get_pointer_to_function(self, name: str) -> int:
        self._ensure_finalized()
        return 0

    @property
    def codegen(self) -> Any:
        return self

    def set_env(self, name: str, environment: Any) -> None:
        """What has no machine code of its own has no environment, as what is loaded has none."""


class _Flags(Flags):
    """Numba's, compared by what is set: it asks thousands of times for each kernel whether two of them are the same."""

    _HASH = hash(Flags())

    def __hash__(self) -> int:
        return self._HASH

    def __eq__(self, other: object) -> bool:
        if isinstance(other, _Flags):
            return bool(self._values == other._values)
        return bool(super().__eq__(other))


class _Compiler(Compiler):
    library: type[_Entry] = _Entry

    def _compile_core(self) -> Any:
        self.state.flags = _Flags(self.state.flags)
        return super()._compile_core()

    def define_pipelines(self) -> Any:
        state = self.state
        state.library = self.library(state.targetctx.codegen(), state.func_id.func_qualname)
        state.library.enable_object_caching()
        return super().define_pipelines()


class _PartCompiler(_Compiler):
    library = _Part


_ALL = {"nogil": True, "error_model": "numpy", "no_cfunc_wrapper": True, "_nrt": False}


def _compiled(function: Function, **options: Any) -> Function:
    made = njit(**{"pipeline_class": _Compiler, **_ALL, **options})(function)
    asked = made.get_call_template

    def without_literals(args: Any, kws: Any) -> Any:
        """Compiled once for whole numbers, not once for each that is written where it is called."""
        return asked(
            tuple(types.unliteral(arg) for arg in args),
            {name: types.unliteral(arg) for name, arg in kws.items()},
        )

    made.get_call_template = without_literals
    return made  # type: ignore[no-any-return]


def kernel(function: Function) -> Function:
    """What is called from Python: compiled for the arguments that come, and kept (signal/kept_kernels.py)."""
    made: Any = _compiled(function)
    made._cache = Kept(function)
    return made  # type: ignore[no-any-return]


def inner(function: Function) -> Function:
    """What kernels call."""
    return _compiled(function, no_cpython_wrapper=True, pipeline_class=_PartCompiler)


def inlined(function: Function) -> Function:
    """What becomes part of each kernel that calls it."""
    return _compiled(function, no_cpython_wrapper=True, forceinline=True, pipeline_class=_PartCompiler)


def _picked(sign: str) -> Any:
    """An intrinsic that gives the second of two numbers where it compares so with the first one, otherwise the first."""

    def typed(typing: Any, a: Any, b: Any) -> Any:
        whole = isinstance(a, types.Integer) and isinstance(b, types.Integer)
        result = types.int64 if whole else types.float64

        def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            first, second = (
                context.cast(builder, value, had, result)
                for value, had in zip(args, signature.args, strict=True)
            )
            compare = builder.icmp_signed if whole else builder.fcmp_ordered
            return builder.select(compare(sign, second, first), second, first)

        return result(a, b), generate

    return intrinsic(typed)


lesser, greater = _picked("<"), _picked(">")
"""The lesser and the greater of two numbers, as Python's `min` and `max`, inside kernels."""


@inlined
def copied(values, out):
    """The values (n,) of one array into another one (n,), the first one first."""
    for i in range(out.shape[0]):
        out[i] = values[i]


@inlined
def any_of(numbers):
    """Whether any number (n,) is not zero."""
    found = False
    for i in range(numbers.shape[0]):
        found = found or numbers[i] != 0.0
    return found


@inlined
def filled(value, out):
    """One value into all of an array (n,)."""
    for i in range(out.shape[0]):
        out[i] = value
