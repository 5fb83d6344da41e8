# A slim image with the program alone: podman build -t neat-delta . && podman run --rm -v "$PWD":/work neat-delta compare live.csv sheet.csv
FROM docker.io/library/python:3.11-slim-bookworm AS build
WORKDIR /src
COPY pyproject.toml README.md LICENSE ./
COPY man ./man
COPY src ./src
RUN python -m venv /opt/neat-delta && /opt/neat-delta/bin/pip install --no-cache-dir --no-compile .

FROM docker.io/library/python:3.11-slim-bookworm
COPY --from=build /opt/neat-delta /opt/neat-delta
RUN useradd --create-home --uid 1000 keeper
USER keeper
WORKDIR /work
ENV PATH="/opt/neat-delta/bin:$PATH" PYTHONDONTWRITEBYTECODE=1
ENTRYPOINT ["neat-delta"]
CMD ["--help"]
