# Free memory.
class _Memory:
    available: int

class _ProcessMemory:
    vms: int
    rss: int

class Process:
    def memory_info(self) -> _ProcessMemory: ...

def virtual_memory() -> _Memory: ...
