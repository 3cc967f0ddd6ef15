import { NavLink } from "react-router";
import { FOR_CALLERS, GROUPS } from "./pages";

/** The way to the pages, in groups: beside the page where there is room, above it elsewhere. */
export function Navigation({ limited }: { limited: boolean }) {
  const groups = GROUPS.map(([group, pages]) => ({
    group,
    pages: pages.filter(([path]) => !limited || path === FOR_CALLERS),
  })).filter(({ pages }) => pages.length > 0);
  return (
    <nav
      aria-label="Pages"
      className="-mx-4 flex gap-5 overflow-x-auto px-4 pt-3 lg:mx-0 lg:w-32 lg:shrink-0 lg:flex-col lg:overflow-visible lg:px-0 lg:pt-5"
    >
      {groups.map(({ group, pages }) => (
        <div key={group} role="group" aria-label={group}>
          <p aria-hidden="true" className="px-2 text-xs text-faint">
            {group}
          </p>
          <ul className="flex lg:flex-col">
            {pages.map(([path, name]) => (
              <li key={path}>
                <NavLink
                  to={`/console/${path}`}
                  className={({ isActive }) =>
                    `block px-2 py-1 whitespace-nowrap ${isActive ? "bg-ink text-paper" : "hover:bg-shoal"}`
                  }
                >
                  {name}
                </NavLink>
              </li>
            ))}
          </ul>
        </div>
      ))}
    </nav>
  );
}
