import { useNavigate } from "@tanstack/react-router";
import { useEffect, useState } from "react";

// A file can be dropped anywhere: the page that takes it in finds it here.

let dropped: File | undefined;

/** The file that was dropped last, once. */
export function takeDropped(): File | undefined {
  const file = dropped;
  dropped = undefined;
  return file;
}

const hasFiles = (e: DragEvent) => e.dataTransfer?.types.includes("Files") ?? false;

/** Takes in files that are dropped anywhere on the page; says whether one is held over it. */
export function useDropAnywhere(): boolean {
  const navigate = useNavigate();
  const [over, setOver] = useState(false);
  useEffect(() => {
    const hold = (e: DragEvent) => {
      if (hasFiles(e)) {
        e.preventDefault();
        setOver(true);
      }
    };
    const leave = (e: DragEvent) => {
      if (e.relatedTarget === null) {
        setOver(false);
      }
    };
    const drop = (e: DragEvent) => {
      const file = e.dataTransfer?.files[0];
      if (file) {
        e.preventDefault();
        setOver(false);
        dropped = file;
        const dataset = /^\/datasets\/([^/]+)/.exec(location.pathname)?.[1];
        navigate({ to: "/new", search: { dataset } }).then(() => dispatchEvent(new Event("file-dropped")));
      }
    };
    addEventListener("dragover", hold);
    addEventListener("dragleave", leave);
    addEventListener("drop", drop);
    return () => {
      removeEventListener("dragover", hold);
      removeEventListener("dragleave", leave);
      removeEventListener("drop", drop);
    };
  }, [navigate]);
  return over;
}
