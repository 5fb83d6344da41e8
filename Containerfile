# A slim image with the program alone: podman build -t neat-delta . && podman run --rm -v "$PWD":/work neat-delta compare live.csv sheet.csv
# One for workers, too: podman build --build-arg EXTRAS='[cluster]' -t neat-delta-cluster .
FROM docker.io/library/python:3.11-slim-bookworm AS build
ARG EXTRAS=""
WORKDIR /src
COPY pyproject.toml README.md LICENSE ./
COPY man ./man
COPY src ./src
RUN python -m venv /opt/neat-delta && /opt/neat-delta/bin/pip install --no-cache-dir --no-compile ".${EXTRAS}"

FROM docker.io/library/python:3.11-slim-bookworm
COPY --from=build /opt/neat-delta /opt/neat-delta
RUN useradd --create-home --uid 1000 keeper
USER keeper
WORKDIR /work
ENV PATH="/opt/neat-delta/bin:$PATH" PYTHONDONTWRITEBYTECODE=1
ENTRYPOINT ["neat-delta"]
CMD ["--help"]
