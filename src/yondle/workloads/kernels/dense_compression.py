"""Dense compression: as compression, with lzma: larger tables, more branches, more memory."""

from yondle.workloads.kernels.compression import DENSE
from yondle.workloads.kernels.serve import serve

if __name__ == "__main__":
    serve(DENSE)
