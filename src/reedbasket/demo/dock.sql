create table work_orders (
  order_id integer primary key,
  vessel text not null,
  job text not null,
  status text not null,
  due date,
  cost decimal(10, 2),
  opened_at datetime not null,
  updated_at datetime not null
);
create index work_orders_updated on work_orders (updated_at);

create table parts (
  part_no text primary key not null,
  name text not null,
  price real,
  in_stock integer
);

create table crew_shifts (
  shift_id integer primary key,
  crew text not null,
  landing text not null,
  day date not null,
  turn text not null
);

create table fuel_tanks (
  landing text primary key not null,
  name text not null,
  holds_litres integer not null,
  litres integer not null,
  read_at datetime not null
);

create view open_orders as
  select order_id, vessel, job, due from work_orders where status = 'open';
